/** The rows of an answer, some at a time: as they are, to the last digit. */
import { useState } from "react";
import { Wide } from "../../parts/wide";
import { Value } from "../../tables/value";
import { isKey, type Cell, type ListProps, type TableColumn } from "../../tables/table";
import { dateOf } from "../../scope/dates";
import { clock, count } from "../../figures";
import { words } from "../../words";

/** How many rows are drawn at once. */
const STEP = 100;

export function Rows({ table, zone = "UTC", narrow, trail }: ListProps) {
  const [shown, setShown] = useState(STEP);
  if (table.rows.length === 0) return null;
  return (
    <Wide name={words.query.result}>
      <table className="mt-4 min-w-full" data-testid="rows">
        <thead>
          <tr className="border-b border-line text-sm text-quiet">
            {table.columns.map((column) => (
              <th key={column.name} scope="col" className={`py-1 pr-6 font-normal whitespace-nowrap ${isFigure(column) ? "text-right" : "text-left"}`}>
                {column.title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {table.rows.slice(0, shown).map((row, place) => (
            <tr key={place} className="border-b border-line align-top">
              {table.columns.map((column) => (
                <td key={column.name} className={`max-w-md py-1 pr-6 ${isFigure(column) ? "text-right whitespace-nowrap" : ""}`}>
                  {column.kind === "text" || column.filter ? (
                    <Value column={column} row={row} shared="" zone={zone} {...(narrow ? { narrow } : {})} {...(trail ? { trail } : {})} />
                  ) : (
                    <span className="whitespace-nowrap">{plain(column, row[column.name] ?? null, zone)}</span>
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {shown < table.rows.length && (
        <button type="button" className="mt-3 text-sea hover:underline" onClick={() => setShown(shown + 10 * STEP)}>
          {words.list.more} ({count(table.rows.length - shown)})
        </button>
      )}
    </Wide>
  );
}

const isFigure = (column: TableColumn): boolean => column.kind !== "text" && column.kind !== "time" && !isKey(column);

/** A value as it is: figures whole, instants to the second. */
function plain(column: TableColumn, cell: Cell, zone: string): string {
  if (cell === null) return "–";
  if (typeof cell === "string") return cell;
  if (column.kind === "time") return `${dateOf(cell, zone)} ${clock(cell, zone, true)}`;
  if (Number.isInteger(cell)) return String(cell);
  return String(Number(cell.toPrecision(Math.max(3, Math.ceil(Math.log10(Math.abs(cell) + 1)) + 3))));
}
