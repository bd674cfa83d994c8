/** An answer: as a table, or as one of the charts that it makes. */
import { ToggleGroup } from "radix-ui";
import type { QueryAnswer } from "../../api/client";
import { TableChart } from "../../charts/table-chart";
import { count } from "../../figures";
import { styles } from "../../parts/styles";
import { useNarrowing } from "../../scope";
import { words } from "../../words";
import { Rows } from "./rows";

const said = words.query;
const TABLE = "table";

interface Props {
  answer: QueryAnswer;
  /** The form that was chosen; none shows the chart that fits best beside the table. */
  chart: string;
  choose: (form: string) => void;
  took: string;
}

export function Answer({ answer, chart, choose, took }: Props) {
  const { narrow, trail } = useNarrowing();
  const { table, charts, time_zone: zone } = answer;
  const forms = charts.map((chart) => chart.form);
  const chosen = chart === TABLE ? undefined : (charts.find(({ form }) => form === chart) ?? charts[0]);
  return (
    <section aria-label={said.result} className="mt-6" data-testid="answer">
      <div className="flex flex-wrap items-center gap-3">
        <p className="text-sm text-quiet" data-testid="took">
          {took}
        </p>
        {forms.length > 0 && (
          <ToggleGroup.Root
            type="single"
            aria-label={said.result}
            className={`${styles.toggles} ml-auto`}
            value={chosen?.form ?? TABLE}
            onValueChange={(form) => form && choose(form)}
          >
            {[TABLE, ...forms].map((form) => (
              <ToggleGroup.Item key={form} value={form} className={styles.toggle}>
                {form === TABLE ? said.table : said.charts[form]}
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
        )}
      </div>
      {answer.has_more && <p className="mt-2 text-attention-text">{said.hasMore(count(table.rows.length))}</p>}
      {table.rows.length === 0 && <p className="mt-4 text-quiet">{said.nothing}</p>}
      {chosen && <TableChart table={table} chart={chosen} zone={zone} />}
      <Rows table={table} zone={zone} narrow={narrow} trail={trail} />
    </section>
  );
}
