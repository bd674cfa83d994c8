/** A table of a single row without a name: each figure on a line of its own. */
import { ChangeNote } from "./change";
import { exact, show } from "./show";
import { changed, figure, type ListProps } from "./table";

export function Facts({ table, zone }: ListProps) {
  const row = table.rows[0];
  if (!row) return null;
  return (
    <section className="mt-10 min-w-0" aria-label={table.title} data-table={table.name}>
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{table.title}</h2>
      {table.about && <p className="pt-1 text-sm text-quiet">{table.about}</p>}
      <dl>
        {table.columns.map((column) => (
          <div key={column.name} className="flex items-baseline gap-x-3 border-b border-line py-1">
            <dt>{column.title}</dt>
            <dd className="ml-auto text-right">
              <ChangeNote change={changed(figure(row, column.name), table.before?.[0]?.[column.name])} />{" "}
              <span className="ml-3" title={exact(column, row[column.name])} data-value={`${column.name}=${String(row[column.name])}`}>
                {show(column, row[column.name], zone)}
              </span>
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
}
