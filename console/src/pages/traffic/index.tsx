/** How much, when, what? */
import { ToggleGroup } from "radix-ui";
import { useMemo, useState } from "react";
import { useSurvey } from "../../api/queries";
import { Columns, type TimeColumn } from "../../charts/columns";
import { WeekFan } from "../../charts/week-fan";
import { bytes, count, dateOf, dayName, shifted, weekHour } from "../../figures";
import { Failing, Loading, Stale, Waiting } from "../../parts/states";
import { daysOf, narrowed, useScope } from "../../scope";
import { words } from "../../words";
import { week } from "../../report/columns";
import { TableList } from "../../tables/list";
import { figure, textOf, type Table } from "../../tables/table";

type Measure = keyof typeof words.measures;
const MEASURES = Object.keys(words.measures) as Measure[];

export function TrafficPage({ zone }: { zone: string }) {
  const [scope, change] = useScope();
  const survey = useSurvey(scope, zone);
  const [measure, setMeasure] = useState<Measure>("requests");
  const days = daysOf(scope, zone);
  const fan = useMemo(() => survey.data?.tables.week && week(survey.data.tables.week, days.first, days.last < days.today ? days.last : days.today), [survey.data, days.first, days.last, days.today]);
  if (survey.isError && !survey.data) return <Failing error={survey.error} again={() => void survey.refetch()} />;
  const { totals, days: byDay, timeline, paths, missing } = survey.data?.tables ?? {};
  if (!survey.data || !fan || !totals || !byDay || !timeline) return <Loading />;
  const total = (name: Measure) => figure(totals.rows[0], name);
  const narrow = (filter: string, without: boolean) =>
    change(without ? { without: [...scope.without, filter] } : narrowed(scope, filter));
  const show = measure === "bytes" ? bytes : count;
  // A visitor is one of a day: there are none by the hour.
  const byHour = scope.days === 1 && measure !== "visitors";
  const columns = byHour ? hours(timeline, days.first, zone, measure) : dayColumns(byDay, days.first, scope.days, measure);
  return (
    <>
      {survey.isError && <Stale />}
      {survey.isPlaceholderData && <Waiting />}
      <div aria-busy={survey.isPlaceholderData} className={survey.isPlaceholderData ? "opacity-40" : ""} data-testid="figures">
      <ToggleGroup.Root
        type="single"
        value={measure}
        onValueChange={(chosen) => chosen && setMeasure(chosen as Measure)}
        aria-label="Measure"
        className="mt-2 flex flex-wrap items-end gap-x-10 gap-y-3"
      >
        {MEASURES.map((name) => (
          <ToggleGroup.Item
            key={name}
            value={name}
            className="group border-b-2 border-transparent pb-1 text-left data-[state=on]:border-sea"
          >
            <span
              className="block text-3xl leading-tight font-semibold group-data-[state=on]:text-6xl group-data-[state=on]:leading-none group-data-[state=on]:text-sea"
              data-testid={`total-${name}`}
              title={count(total(name))}
            >
              {name === "bytes" ? bytes(total(name)) : count(total(name))}
            </span>
            <span className="text-quiet">{words.measures[name]}</span>
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
      <div className="mt-3 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,1fr)_26rem]">
        <section aria-label={`${words.measures[measure]} ${byHour ? words.traffic.hours : words.traffic.days}`}>
          <Columns
            title={`${words.measures[measure]} ${byHour ? words.traffic.hours : words.traffic.days}`}
            height={280}
            colours={["var(--sea)"]}
            show={show}
            columns={columns}
            choose={byHour ? undefined : (column) => change({ days: 1, ending: column.key === days.today ? "" : column.key })}
          />
          {total("requests") === 0 && <p className="text-quiet">{words.traffic.nothing}</p>}
        </section>
        <WeekFan title={words.traffic.fan} values={fan} show={(value) => words.report.aDay(count(Math.round(value)))} />
      </div>
      <div className="grid gap-x-12 lg:grid-cols-2">
        {paths && <TableList table={paths} zone={zone} narrow={narrow} />}
        {missing && <TableList table={missing} zone={zone} narrow={narrow} />}
      </div>
      </div>
    </>
  );
}

function dayColumns(table: Table, first: string, length: number, measure: Measure): TimeColumn[] {
  const known = new Map(table.rows.map((row) => [textOf(row, "day"), figure(row, measure)]));
  return Array.from({ length }, (_, place) => {
    const key = shifted(first, place);
    return { key, label: dayName(key).replace(/^\w+ /, ""), name: dayName(key), parts: [known.get(key) ?? 0] };
  });
}

function hours(table: Table, day: string, zone: string, measure: "requests" | "bytes"): TimeColumn[] {
  const sums = new Map<number, number>();
  const at = weekHour(zone);
  for (const bucket of table.rows.filter((bucket) => dateOf(figure(bucket, "time"), zone) === day)) {
    const [, hour] = at(figure(bucket, "time"));
    sums.set(hour, (sums.get(hour) ?? 0) + figure(bucket, measure));
  }
  return Array.from({ length: 24 }, (_, hour) => {
    const label = `${String(hour).padStart(2, "0")}:00`;
    return { key: label, label, name: label, parts: [sums.get(hour) ?? 0] };
  });
}
