/** The last requests, newest first; they hold still while somebody reads them, and each opens to all that is known of it. */
import { Fragment, useRef, useState } from "react";
import type { Now } from "../../api/client";
import { clock } from "../../figures";
import { Wide } from "../../parts/wide";
import { useScope } from "../../scope";
import { cutName } from "../../tables/cutting";
import { show } from "../../tables/show";
import { figure, textOf, type Row } from "../../tables/table";
import { words } from "../../words";

const TONE: Record<string, string> = { "4": "text-attention-text", "5": "text-trouble" };
const said = words.now;
const keyOf = (request: Row, place: number) => `${String(request.time)}-${String(request.client)}-${String(request.path)}-${place}`;

export function Latest({ requests: newest, zone }: { requests: Now["latest"]; zone: string }) {
  const [, change] = useScope();
  const [isHeld, setHeld] = useState(false);
  const [open, setOpen] = useState("");
  // What somebody reads does not move away under their eyes.
  const kept = useRef(newest);
  if (!isHeld) kept.current = newest;
  const requests = kept.current;
  const columns = new Map(requests.columns.map((column) => [column.name, column]));
  const cell = (name: string, row: Row) => {
    const column = columns.get(name);
    return column && row[name] !== null && row[name] !== undefined ? show(column, row[name], zone) : "";
  };
  return (
    <section
      aria-label={said.latest}
      className="min-w-0"
      onMouseEnter={() => setHeld(true)}
      onMouseLeave={() => setHeld(false)}
      onFocus={() => setHeld(true)}
      onBlur={() => setHeld(false)}
    >
      <h2 className="flex items-baseline border-b border-line pb-1 text-lg font-semibold">
        {said.latest}
        {isHeld && <span className="ml-auto text-sm font-normal text-quiet">{said.held}</span>}
      </h2>
      <Wide name={said.latest}>
        <table className="w-full min-w-[42rem] text-[0.95rem]">
          <thead>
            <tr className="text-sm text-quiet">
              {Object.entries(said.columns).map(([name, title]) => (
                <th key={name} scope="col" className={`py-1 pr-4 font-normal ${name === "bytes" || name === "duration" ? "text-right" : "text-left"}`}>
                  {title}
                </th>
              ))}
              <td />
            </tr>
          </thead>
          <tbody>
            {requests.rows.map((request, place) => {
              const key = keyOf(request, place);
              const client = textOf(request, "client");
              return (
                <Fragment key={key}>
                  <tr className="border-b border-line">
                    <td className="py-1 pr-4 text-quiet">{clock(figure(request, "time"), zone, true)}</td>
                    <td className={`py-1 pr-4 font-semibold ${TONE[String(request.status)[0] ?? ""] ?? ""}`}>{cell("status", request)}</td>
                    <td className="py-1 pr-4 font-mono text-sm" title={textOf(request, "path")}>
                      {textOf(request, "method")} {cutName(textOf(request, "path"), 44, "")}
                    </td>
                    <td className="py-1 pr-4 text-right whitespace-nowrap">{cell("bytes", request)}</td>
                    <td className="py-1 pr-4 text-right whitespace-nowrap">{cell("duration", request)}</td>
                    <td className="py-1 pr-4 font-mono text-sm">
                      {client && (
                        <button type="button" className="hover:text-sea hover:underline" onClick={() => change({ trail: client })}>
                          {client}
                        </button>
                      )}
                    </td>
                    <td className="py-1 text-quiet">{textOf(request, "site")}</td>
                    <td className="py-1 text-right">
                      <button
                        type="button"
                        aria-expanded={open === key}
                        aria-label={`${words.list.open}: ${textOf(request, "path")}`}
                        className="px-1.5 text-quiet hover:text-ink"
                        onClick={() => setOpen(open === key ? "" : key)}
                      >
                        {open === key ? "▴" : "▾"}
                      </button>
                    </td>
                  </tr>
                  {open === key && (
                    <tr className="border-b border-line">
                      <td colSpan={8} className="pb-2">
                        <dl className="grid grid-cols-[8rem_1fr] gap-x-4 rounded-md bg-sea-soft/40 px-3 py-2 text-sm">
                          {Object.entries(said.more)
                            .filter(([name]) => cell(name, request) !== "")
                            .map(([name, title]) => (
                              <div key={name} className="contents">
                                <dt className="text-quiet">{title}</dt>
                                <dd className="min-w-0 font-mono break-all">{cell(name, request)}</dd>
                              </div>
                            ))}
                        </dl>
                      </td>
                    </tr>
                  )}
                </Fragment>
              );
            })}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}
