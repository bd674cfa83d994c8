/** Who is here: the clients of the last hour with most requests, each with its trail. */
import type { Now } from "../../api/client";
import { bytes, count } from "../../figures";
import { useScope } from "../../scope";
import { figure, textOf } from "../../tables/table";
import { words } from "../../words";

export function ActiveClients({ clients }: { clients: Now["clients"] }) {
  const [, change] = useScope();
  const most = Math.max(1, ...clients.rows.map((row) => figure(row, "requests")));
  return (
    <section aria-label={words.now.here} className="min-w-0">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{words.now.here}</h2>
      <table className="w-full">
        <thead className="sr-only">
          <tr>
            <th scope="col">{words.now.columns.client}</th>
            <th scope="col">{words.measures.requests}</th>
            <th scope="col">{words.measures.bytes}</th>
          </tr>
        </thead>
        <tbody>
          {clients.rows.map((row) => {
            const client = textOf(row, "client");
            return (
              <tr key={client} className="border-b border-line">
                <td className="py-1">
                  <button
                    type="button"
                    className="font-mono text-sm hover:text-sea hover:underline"
                    onClick={() => change({ trail: client })}
                    aria-label={`${words.trail.open}: ${client}`}
                  >
                    {client || words.list.unknown}
                  </button>
                  <span
                    aria-hidden="true"
                    className="block h-[3px] rounded-full bg-sea opacity-60"
                    style={{ width: `${(100 * figure(row, "requests")) / most}%` }}
                  />
                </td>
                <td className="py-1 text-right">{count(figure(row, "requests"))}</td>
                <td className="py-1 pl-4 text-right text-quiet">{bytes(figure(row, "bytes"))}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
