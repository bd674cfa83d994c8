/** Any table as a list: sorted by any column, filtered as you type, longer on demand; a value narrows the scope. */
import { createSortedRowModel, rowSortingFeature, tableFeatures, useTable, type ColumnDef, type SortingState } from "@tanstack/react-table";
import { Fragment, useMemo, useState } from "react";
import { useWidth } from "../width";
import { count } from "../figures";
import { usePreferences } from "../preferences";
import { words } from "../words";
import { ChangeNote } from "./change";
import { sharedBeginning } from "./cutting";
import { Facts } from "./facts";
import { OpenRow, RowToggle } from "./open-row";
import { exact, show } from "./show";
import { asCsv, changed, compares, figure, isKey, mainOf, nameOf, type ListProps, type Row, type Table, type TableColumn } from "./table";
import { Bar, Details, NameLength, Value } from "./value";

/** A row with its place in the table, by which what stands beside and under it is found. */
interface Placed {
  row: Row;
  place: number;
}

const features = tableFeatures({ rowSortingFeature, sortedRowModel: createSortedRowModel() });
type Defined = ColumnDef<typeof features, Placed> & { id: string };

/** As many rows fit a screen; the box to filter them is for longer lists. */
const SCREEN = 12;
/** From which width of a list on its third and further figures are shown, so that what a row is about always has room. */
const SHOWN_FROM = ["", "", "hidden @xl:table-cell", "hidden @2xl:table-cell", "hidden @3xl:table-cell", "hidden @4xl:table-cell"];
const SHOWN_LAST = "hidden @5xl:table-cell";
export function TableList(props: ListProps) {
  return props.table.columns.some(isKey) ? <List {...props} /> : <Facts {...props} />;
}

function List({ table, zone, narrow, trail }: ListProps) {
  const main = mainOf(table);
  const [sorting, setSorting] = useState<SortingState>([]);
  const [filter, setFilter] = useState("");
  const { rows: first } = usePreferences();
  const [times, setTimes] = useState(1);
  const length = first * times;
  const [open, setOpen] = useState<number | null>(null);
  const most = Math.max(1, ...table.rows.map((row) => figure(row, main?.name ?? "")));
  const wanted = filter.toLowerCase();
  const rows = useMemo(
    () => table.rows.map((row, place) => ({ row, place })).filter(({ row }) => wanted === "" || nameOf(table, row).toLowerCase().includes(wanted)),
    [table, wanted],
  );
  const [element, width] = useWidth();
  const keys = table.columns.filter((column) => isKey(column) && !column.minor);
  // Of a narrow column a wider one has the rest.
  const room = Math.floor(roomOf(table, width) / Math.max(1, keys.filter((column) => column.kind === "text").length));
  const columns = useMemo(() => columnsOf(table, { most, zone, narrow, trail }), [table, most, zone, narrow, trail]);
  const styles = useMemo(() => stylesOf(table), [table]);
  const model = useTable({ features, data: rows, columns, state: { sorting }, onSortingChange: setSorting });
  const shown = model.getRowModel().rows;
  // What it is ordered by says so until somebody orders it otherwise.
  const sorted = (name: string) => {
    const asked = sorting[0];
    if (!asked) return name === table.order ? "descending" : "none";
    return asked.id === name ? (asked.desc ? "descending" : "ascending") : "none";
  };
  return (
    <NameLength.Provider value={room}>
      <section ref={element} className="@container mt-10 min-w-0" aria-label={table.title} data-table={table.name}>
        <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line pb-1">
          <h2 className="text-lg font-semibold">{table.title}</h2>
          {table.rows.length > SCREEN && (
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
            className={`text-sm text-quiet hover:text-ink ${table.rows.length > SCREEN ? "" : "ml-auto"}`}
            href={asCsv(
              table,
              shown.map((row) => row.original.row),
            )}
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
                    <th key={header.id} scope="col" aria-sort={order} className={`py-1 font-normal ${styles.get(header.id) ?? ""}`}>
                      <button type="button" className="hover:text-ink" onClick={header.column.getToggleSortingHandler()}>
                        <model.FlexRender header={header} />
                        <span aria-hidden="true">{order === "ascending" ? " ↑" : order === "descending" ? " ↓" : ""}</span>
                      </button>
                    </th>
                  );
                })}
                <th scope="col" className="w-7">
                  <span className="sr-only">{words.list.open}</span>
                </th>
              </tr>
            ))}
          </thead>
          <tbody>
            {shown.slice(0, length).map((row) => (
              <Fragment key={row.id}>
                <tr className={`group align-top ${open === row.original.place ? "" : "border-b border-line"}`} data-row={row.original.place}>
                  {row.getAllCells().map((cell) => (
                    <td key={cell.id} className={`py-1 ${styles.get(cell.column.id) ?? ""}`}>
                      {drawn(cell.column.columnDef.cell, cell.getContext())}
                    </td>
                  ))}
                  <td className="w-7 py-1 text-right">
                    <RowToggle
                      isOpen={open === row.original.place}
                      name={nameOf(table, row.original.row)}
                      toggle={() => setOpen(open === row.original.place ? null : row.original.place)}
                    />
                  </td>
                </tr>
                {open === row.original.place && (
                  <tr className="border-b border-line">
                    <td colSpan={row.getAllCells().length + 1} className="pb-3">
                      <OpenRow table={table} row={row.original.row} zone={zone} narrow={narrow} trail={trail} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
        {shown.length === 0 && <p className="py-3 text-quiet">{words.list.nothing}</p>}
        <div className="mt-2 flex flex-wrap gap-x-6 text-sm">
          {shown.length > length && (
            <button type="button" className="text-sea hover:underline" onClick={() => setTimes(times * 4)}>
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
    </NameLength.Provider>
  );
}

/** A cell as it is drawn. Called, and not made a component of: that would be another one with every answer of the service, and lose the focus. */
function drawn<Context>(cell: unknown, context: Context): React.ReactNode {
  return typeof cell === "function" ? (cell as (context: Context) => React.ReactNode)(context) : null;
}

/** What the service left out. */
function Rest({ table }: { table: Table }) {
  const rest = table.rest;
  if (!rest || rest.rows === 0) return null;
  const main = [mainOf(table), ...table.columns].find((column) => column && column.measure === "sum" && rest.figures[column.name] !== undefined);
  const sum = main && `${show(main, rest.figures[main.name])} ${main.title}`;
  return <span className="text-quiet">{words.list.rest(count(rest.rows), sum)}</span>;
}

/** The figures that are shown, the one that the table is about first. */
function figuresOf(table: Table): TableColumn[] {
  const main = mainOf(table);
  const others = table.columns.filter((column) => !isKey(column) && column !== main && !column.minor);
  return main ? [main, ...others] : others;
}

/** How columns are styled: texts are on the left, figures on the right; where there is little room, the further figures give way. */
function stylesOf(table: Table): Map<string, string> {
  const styles = new Map(
    table.columns
      .filter((column) => isKey(column) && !column.minor)
      .map((column) => [column.name, `pr-4 text-left ${column.kind === "integer" ? "w-20" : column.kind === "time" || column.kind === "date" ? "w-44" : ""}`]),
  );
  const [main, ...others] = figuresOf(table).map((column) => column.name);
  const names = [main, ...(compares(table) ? ["change"] : []), ...others];
  const isTime = (name?: string) => table.columns.some((column) => column.name === name && column.kind === "time");
  names.forEach((name, place) =>
    styles.set(name ?? "", `text-right ${isTime(name) ? "w-40 whitespace-nowrap" : "w-20 sm:w-28"} ${SHOWN_FROM[place] ?? SHOWN_LAST}`),
  );
  return styles;
}

function columnsOf(table: Table, { most, zone, narrow, trail }: Omit<ListProps, "table"> & { most: number }): Defined[] {
  const main = mainOf(table);
  const keys = table.columns.filter((column) => isKey(column) && !column.minor);
  const shared = new Map(keys.map((column) => [column.name, sharedBeginning(table.rows.map((row) => show(column, row[column.name] ?? null, zone)))]));
  const defined = keys.map((column, place): Defined => ({
    id: column.name,
    header: column.title,
    accessorFn: (one) => one.row[column.name] ?? "",
    sortDescFirst: false,
    cell: ({ row: { original } }) => (
      <>
        <Value column={column} row={original.row} shared={shared.get(column.name) ?? ""} zone={zone} narrow={narrow} trail={trail} />
        {place === 0 && main && (
          <>
            {main.measure === "sum" && <Bar part={figure(original.row, main.name) / most} />}
            <Details table={table} place={original.place} />
          </>
        )}
      </>
    ),
  }));
  figuresOf(table).forEach((column, place) => {
    defined.push({
      id: column.name,
      header: column.title,
      accessorFn: (one) => figure(one.row, column.name),
      sortDescFirst: true,
      cell: ({ row: { original } }) => {
        const cell = original.row[column.name];
        return (
          <span title={exact(column, cell)} data-value={`${column.name}=${String(cell)}`}>
            {show(column, cell, zone)}
          </span>
        );
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

/** How many letters what a row is about has room for, in all its columns together. */
function roomOf(table: Table, width: number): number {
  const figures = figuresOf(table).length + (compares(table) ? 1 : 0);
  const shown = [0, 576, 672, 768, 896, 1024].filter((least) => width >= least).length + 1;
  const taken = Math.min(figures, shown) * (width < 640 ? 80 : 112) + 44;
  return Math.max(12, Math.floor((width - taken) / 8.4));
}
