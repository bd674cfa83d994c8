/** What differs between two texts, line by line: signs tell as much as colours do. */
import type { DifferenceLine } from "../api/client";

const LOOKS: Record<string, string> = { "+": "bg-sea-soft text-ink", "-": "text-trouble line-through", " ": "text-quiet", "~": "text-quiet" };

export function DifferenceLines({ name, lines }: { name: string; lines: DifferenceLine[] }) {
  return (
    <figure className="mt-2 overflow-x-auto rounded-md border border-line">
      <figcaption className="border-b border-line px-3 py-1 font-mono text-sm break-all text-quiet">{name}</figcaption>
      <pre className="py-1 font-mono text-sm" tabIndex={0} aria-label={name}>
        {lines.map((line, nth) => (
          <div key={nth} className={`px-3 ${LOOKS[line.sign] ?? ""}`}>
            <span className="inline-block w-10 pr-3 text-right text-quiet select-none">{line.sign === "~" ? "" : line.line}</span>
            <span className="inline-block w-4 select-none">{line.sign === "~" ? "…" : line.sign}</span>
            {line.text}
          </div>
        ))}
      </pre>
    </figure>
  );
}
