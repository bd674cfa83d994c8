/** The last requests, newest first. */
import type { Now } from "../../api/client";
import { clock, cut } from "../../figures";
import { Wide } from "../../parts/wide";
import { show } from "../../tables/show";
import { figure, textOf, type Row } from "../../tables/table";
import { words } from "../../words";

const TONE: Record<string, string> = { "4": "text-attention-text", "5": "text-trouble" };

export function Latest({ requests, zone }: { requests: Now["latest"]; zone: string }) {
  const columns = new Map(requests.columns.map((column) => [column.name, column]));
  const cell = (name: string, row: Row) => {
    const column = columns.get(name);
    return column && row[name] !== null ? show(column, row[name], zone) : "–";
  };
  return (
    <section className="mt-8" aria-label={words.now.latest}>
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{words.now.latest}</h2>
      <Wide name={words.now.latest}>
        <table className="w-full min-w-[44rem] text-[0.95rem]">
          <thead className="sr-only">
            <tr>
              {["time", "status", "request", "bytes", "duration", "client", "site"].map((name) => (
                <th key={name} scope="col">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {requests.rows.map((request, place) => (
              <tr key={`${request.time}-${request.client}-${place}`} className="border-b border-line">
                <td className="py-1 pr-4 text-quiet">{clock(figure(request, "time"), zone, true)}</td>
                <td className={`py-1 pr-4 font-semibold ${TONE[String(request.status)[0] ?? ""] ?? ""}`}>{cell("status", request)}</td>
                <td className="py-1 pr-4 font-mono text-sm" title={textOf(request, "path")}>
                  {textOf(request, "method")} {cut(textOf(request, "path") || "–", 56)}
                </td>
                <td className="py-1 pr-4 text-right">{cell("bytes", request)}</td>
                <td className="py-1 pr-4 text-right">{cell("duration", request)}</td>
                <td className="py-1 pr-4 font-mono text-sm">{textOf(request, "client") || "–"}</td>
                <td className="py-1 text-quiet">{textOf(request, "site")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}
