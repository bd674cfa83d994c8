/** A row of a list, opened: everything that is known of it, and what can be done with it. */
import { words } from "../words";
import { exact, show } from "./show";
import { filterOf, isKey, MONO, nameOf, type ListProps, type Row } from "./table";

/** Opens what a row has no room for. */
export function RowToggle({ isOpen, name, toggle }: { isOpen: boolean; name: string; toggle: () => void }) {
  return (
    <button
      type="button"
      aria-expanded={isOpen}
      aria-label={`${words.list.open}: ${name}`}
      className="px-1.5 text-quiet opacity-60 group-hover:opacity-100 hover:text-ink focus-visible:opacity-100"
      onClick={toggle}
    >
      {isOpen ? "▴" : "▾"}
    </button>
  );
}

/** A row with everything that is known of it, and what can be done with it. */
export function OpenRow({ table, row, zone, narrow, trail }: { row: Row } & ListProps) {
  const keys = table.columns.filter((column) => isKey(column) && filterOf(column, row[column.name] ?? null));
  const client = table.columns.find((column) => column.filter === "client");
  const action = "text-sm text-sea hover:underline";
  return (
    <div className="rounded-md bg-sea-soft/40 px-3 py-2" data-testid="open-row">
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-0.5">
        {table.columns.map((column) => (
          <div key={column.name} className="contents">
            <dt className="text-sm text-quiet">{column.title}</dt>
            <dd className={`min-w-0 break-all ${isKey(column) ? "" : "text-right"} ${MONO.has(column.filter ?? "") ? "font-mono text-sm" : ""}`}>
              {show(column, row[column.name], zone)}
              {exact(column, row[column.name]) && <span className="text-sm text-quiet"> ({exact(column, row[column.name])})</span>}
            </dd>
          </div>
        ))}
      </dl>
      <p className="mt-2 flex flex-wrap gap-x-5">
        {narrow &&
          keys.map((column) => {
            const filter = filterOf(column, row[column.name] ?? null) ?? "";
            return (
              <span key={column.name} className="flex gap-x-3">
                <button type="button" className={action} onClick={() => narrow(filter, false)}>
                  {words.list.only(column.title)}
                </button>
                <button type="button" className={action} onClick={() => narrow(filter, true)}>
                  {words.list.without(column.title)}
                </button>
              </span>
            );
          })}
        {trail && client && typeof row[client.name] === "string" && (
          <button type="button" className={action} onClick={() => trail(String(row[client.name]))}>
            {words.trail.whole}
          </button>
        )}
        <button type="button" className={action} onClick={() => void navigator.clipboard?.writeText(nameOf(table, row))}>
          {words.list.copy}
        </button>
      </p>
    </div>
  );
}
