/** Any table as a list: sorted by any column, filtered as you type, longer on demand; a value narrows the scope. */
import { createSortedRowModel, rowSortingFeature, tableFeatures, useTable, type ColumnDef, type SortingState } from "@tanstack/react-table";
import { useMemo, useState } from "react";
import { count, cut } from "../figures";
import { words } from "../words";
import { ChangeNote } from "./change";
import { exact, show } from "./show";
import { asCsv, changed, compares, figure, filterOf, isKey, mainOf, textOf, type Row, type Table, type TableColumn } from "./table";

interface Props {
  table: Table;
  zone?: string;
  /** Narrows the scope to a value, or leaves it out. Without it values are only shown. */
  narrow?: (filter: string, without: boolean) => void;
}

/** A row with its place in the table, by which what stands beside and under it is found. */
interface Placed {
  row: Row;
  place: number;
}

const features = tableFeatures({ rowSortingFeature, sortedRowModel: createSortedRowModel() });
type Defined = ColumnDef<typeof features, Placed> & { id: string };

/** As many rows fit a screen; the box to filter them is for longer lists. */
const FIRST = 12;
/** From which width of a list on its third and further figures are shown, so that what a row is about always has room. */
const SHOWN_FROM = ["", "", "hidden @xl:table-cell", "hidden @2xl:table-cell", "hidden @3xl:table-cell", "hidden @4xl:table-cell"];
const SHOWN_LAST = "hidden @5xl:table-cell";
/** Columns of logs whose values are read letter by letter. */
const MONO = new Set(["path", "client", "referrer", "agent", "query", "rule", "extension"]);

export function TableList(props: Props) {
  return props.table.columns.some(isKey) ? <List {...props} /> : <Facts {...props} />;
}

/** A single row without a name: each figure on a line of its own. */
function Facts({ table, zone }: Props) {
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
              <span className="ml-3" title={exact(column, row[column.name])}>
                {show(column, row[column.name], zone)}
              </span>
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

function List({ table, zone, narrow }: Props) {
  const main = mainOf(table);
  const [sorting, setSorting] = useState<SortingState>([]);
  const [filter, setFilter] = useState("");
  const [length, setLength] = useState(FIRST);
  const most = Math.max(1, ...table.rows.map((row) => figure(row, main?.name ?? "")));
  const wanted = filter.toLowerCase();
  const rows = useMemo(
    () =>
      table.rows.map((row, place) => ({ row, place })).filter(({ row }) => wanted === "" || nameOf(table, row).toLowerCase().includes(wanted)),
    [table, wanted],
  );
  const columns = useMemo(() => columnsOf(table, most, zone, narrow), [table, most, zone, narrow]);
  const looks = useMemo(() => looksOf(table), [table]);
  const model = useTable({ features, data: rows, columns, state: { sorting }, onSortingChange: setSorting });
  const shown = model.getRowModel().rows;
  // What it is ordered by says so until somebody orders it otherwise.
  const sorted = (name: string) => {
    const asked = sorting[0];
    if (!asked) return name === table.order ? "descending" : "none";
    return asked.id === name ? (asked.desc ? "descending" : "ascending") : "none";
  };
  return (
    <section className="@container mt-10 min-w-0" aria-label={table.title} data-table={table.name}>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line pb-1">
        <h2 className="text-lg font-semibold">{table.title}</h2>
        {table.rows.length > FIRST && (
          <input
            type="search"
            value={filter}
            onChange={(event) => setFilter(event.target.value)}
            placeholder={words.list.filter}
            aria-label={`${words.list.filter}: ${table.title}`}
            className="ml-auto w-36 rounded-md border border-line bg-sheet px-2 py-0.5 text-sm"
          />
        )}
        <a
          className={`text-sm text-quiet hover:text-ink ${table.rows.length > FIRST ? "" : "ml-auto"}`}
          href={asCsv(table, shown.map((row) => row.original.row))}
          download={`${table.name}.csv`}
        >
          {words.list.download}
        </a>
      </div>
      {table.about && <p className="pt-1 text-sm text-quiet">{table.about}</p>}
      <table className="w-full table-fixed">
        <thead>
          {model.getHeaderGroups().map((group) => (
            <tr key={group.id} className="text-sm text-quiet">
              {group.headers.map((header) => {
                const order = sorted(header.id);
                return (
                  <th key={header.id} scope="col" aria-sort={order} className={`py-1 font-normal ${looks.get(header.id) ?? ""}`}>
                    <button type="button" className="hover:text-ink" onClick={header.column.getToggleSortingHandler()}>
                      <model.FlexRender header={header} />
                      <span aria-hidden="true">{order === "ascending" ? " ↑" : order === "descending" ? " ↓" : ""}</span>
                    </button>
                  </th>
                );
              })}
            </tr>
          ))}
        </thead>
        <tbody>
          {shown.slice(0, length).map((row) => (
            <tr key={row.id} className="border-b border-line align-top">
              {row.getAllCells().map((cell) => (
                <td key={cell.id} className={`py-1 ${looks.get(cell.column.id) ?? ""}`}>
                  <model.FlexRender cell={cell} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {shown.length === 0 && <p className="py-3 text-quiet">{words.list.nothing}</p>}
      <div className="mt-2 flex flex-wrap gap-x-6 text-sm">
        {shown.length > length && (
          <button type="button" className="text-sea hover:underline" onClick={() => setLength(length * 4)}>
            {words.list.more}
          </button>
        )}
        <Rest table={table} />
      </div>
      {table.unknown?.map((unknown) => (
        <p key={unknown} className="pt-1 text-sm text-quiet">
          {unknown}
        </p>
      ))}
    </section>
  );
}

/** What the service left out. */
function Rest({ table }: { table: Table }) {
  const rest = table.rest;
  if (!rest || rest.rows === 0) return null;
  const main = [mainOf(table), ...table.columns].find((column) => column && column.measure === "sum" && rest.figures[column.name] !== undefined);
  const sum = main && `${show(main, rest.figures[main.name])} ${main.title}`;
  return <span className="text-quiet">{words.list.rest(count(rest.rows), sum)}</span>;
}

/** Everything that a row is about. */
const nameOf = (table: Table, row: Row): string =>
  table.columns
    .filter(isKey)
    .map((column) => textOf(row, column.name))
    .join(" ");

/** The figures that are shown, the one that the table is about first. */
function figuresOf(table: Table): TableColumn[] {
  const main = mainOf(table);
  const others = table.columns.filter((column) => !isKey(column) && column !== main && !column.minor);
  return main ? [main, ...others] : others;
}

/** How columns look: texts are on the left, figures on the right; where there is little room, the further figures give way. */
function looksOf(table: Table): Map<string, string> {
  const looks = new Map(table.columns.filter(isKey).map((column) => [column.name, "pr-4 text-left"]));
  const [main, ...others] = figuresOf(table).map((column) => column.name);
  const names = [main, ...(compares(table) ? ["change"] : []), ...others];
  names.forEach((name, place) => looks.set(name ?? "", `w-20 text-right sm:w-28 ${SHOWN_FROM[place] ?? SHOWN_LAST}`));
  return looks;
}

function columnsOf(table: Table, most: number, zone?: string, narrow?: Props["narrow"]): Defined[] {
  const main = mainOf(table);
  const keys = table.columns.filter(isKey);
  const defined = keys.map(
    (column, place): Defined => ({
      id: column.name,
      header: column.title,
      accessorFn: (one) => one.row[column.name] ?? "",
      sortDescFirst: false,
      cell: ({ row: { original } }) => (
        <>
          <Value column={column} row={original.row} zone={zone} narrow={narrow} />
          {place === 0 && main && (
            <>
              {main.measure === "sum" && <Bar part={figure(original.row, main.name) / most} />}
              <Details table={table} place={original.place} />
            </>
          )}
        </>
      ),
    }),
  );
  figuresOf(table).forEach((column, place) => {
    defined.push({
      id: column.name,
      header: column.title,
      accessorFn: (one) => figure(one.row, column.name),
      sortDescFirst: true,
      cell: ({ row: { original } }) => {
        const cell = original.row[column.name];
        return <span title={exact(column, cell)}>{show(column, cell, zone)}</span>;
      },
    });
    if (place === 0 && compares(table)) defined.push(changeColumn(table, column));
  });
  return defined;
}

function changeColumn(table: Table, column: TableColumn): Defined {
  const change = ({ row, place }: Placed) => changed(figure(row, column.name), table.before?.[place]?.[column.name]);
  return {
    id: "change",
    header: words.report.change,
    accessorFn: (one) => change(one)?.difference ?? 0,
    sortDescFirst: true,
    cell: ({ row: { original } }) => <ChangeNote change={change(original)} />,
  };
}

/** What a row is about: cut in its middle, whole when pointed at; it narrows the scope, or is left out with a modifier. */
function Value({ column, row, zone, narrow }: { column: TableColumn; row: Row; zone?: string; narrow?: Props["narrow"] }) {
  const cell = row[column.name] ?? null;
  const text = show(column, cell, zone);
  const look = `block max-w-full truncate text-left ${MONO.has(column.filter ?? "") ? "font-mono text-sm" : ""}`;
  const filter = filterOf(column, cell);
  if (!narrow || !filter) {
    return (
      <span title={text} className={look}>
        {cut(text, 58)}
      </span>
    );
  }
  return (
    <button
      type="button"
      title={text}
      aria-description={words.list.narrow}
      className={`${look} hover:text-sea hover:underline`}
      onClick={(event) => narrow(filter, event.altKey)}
    >
      {cut(text, 52)}
    </button>
  );
}

function Bar({ part }: { part: number }) {
  return <span className="mt-0.5 block h-[3px] rounded-full bg-sea opacity-60" style={{ width: `${Math.max(part * 100, 0.4)}%` }} />;
}

/** What stands under a row. */
function Details({ table, place }: { table: Table; place: number }) {
  const details = table.details?.[place] ?? [];
  if (details.length === 0) return null;
  return (
    <ul className="mt-0.5 text-sm text-quiet">
      {details.slice(0, 5).map((detail) => {
        const text = [detail.label, detail.text].filter(Boolean).join(" ");
        return (
          <li key={text} className="flex gap-3" title={text}>
            <span className="w-12 shrink-0 text-right">{count(detail.count)}</span>
            <span className="truncate">{cut(text, 62)}</span>
          </li>
        );
      })}
    </ul>
  );
}
