/** The last requests, newest first. */
import type { Now } from "../../api/client";
import { bytes, clock, cut, duration } from "../../figures";
import { Wide } from "../../parts/wide";
import { words } from "../../words";

const TONE: Record<string, string> = { "4": "text-attention-text", "5": "text-trouble" };

export function Latest({ requests, zone }: { requests: Now["latest"]; zone: string }) {
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
            {requests.map((request, place) => (
              <tr key={`${request.time}-${request.client}-${place}`} className="border-b border-line">
                <td className="py-1 pr-4 text-quiet">{clock(request.time, zone, true)}</td>
                <td className={`py-1 pr-4 font-semibold ${TONE[String(request.status)[0] ?? ""] ?? ""}`}>{request.status || "–"}</td>
                <td className="py-1 pr-4 font-mono text-sm" title={request.path ?? ""}>
                  {request.method} {cut(request.path ?? "–", 56)}
                </td>
                <td className="py-1 pr-4 text-right">{request.bytes === null || request.bytes === undefined ? "–" : bytes(request.bytes)}</td>
                <td className="py-1 pr-4 text-right">
                  {request.duration_us === null || request.duration_us === undefined ? "–" : duration(request.duration_us)}
                </td>
                <td className="py-1 pr-4 font-mono text-sm">{request.client ?? "–"}</td>
                <td className="py-1 text-quiet">{request.site}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}
