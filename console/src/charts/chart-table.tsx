/** The figures of a picture as a table, for whoever reads them or hears them. */
import { words } from "../words";

interface Props {
  title: string;
  columns: string[];
  rows: { key: string; cells: string[] }[];
}

/** The most rows that are written out; a picture of more is not read line by line. */
const MOST = 400;

export function ChartTable({ title, columns, rows }: Props) {
  return (
    <details className="mt-1 text-sm print:hidden">
      <summary className="w-fit cursor-pointer text-quiet hover:text-ink">{words.charts.asTable}</summary>
      <div className="mt-1 max-h-72 overflow-auto" role="region" tabIndex={0} aria-label={title}>
        <table className="w-full">
          <caption className="sr-only">{title}</caption>
          <thead>
            <tr className="text-quiet">
              {columns.map((name, place) => (
                <th key={name} scope="col" className={`py-0.5 pr-4 font-normal ${place === 0 ? "text-left" : "text-right"}`}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.slice(0, MOST).map((row) => (
              <tr key={row.key} className="border-t border-line">
                {row.cells.map((cell, place) =>
                  place === 0 ? (
                    <th key={place} scope="row" className="py-0.5 pr-4 text-left font-normal">
                      {cell}
                    </th>
                  ) : (
                    <td key={place} className="py-0.5 pr-4 text-right">
                      {cell}
                    </td>
                  ),
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </details>
  );
}
