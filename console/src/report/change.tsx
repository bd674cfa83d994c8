/** How a figure changed since the other period. */
import type { Survey } from "../api/client";
import { words } from "../words";

type Change = NonNullable<Survey["totals"]["changes"]>[string];

export function changed(change: Change): string {
  if (change.ratio === undefined || change.ratio === null) return change.difference === 0 ? "–" : words.report.isNew;
  const ratio = change.ratio;
  if (Math.abs(ratio) < 0.0005) return "±0 %";
  if (ratio >= 9.995) return `×${Math.round(ratio + 1)}`;
  const text = `${Math.abs(ratio * 100).toFixed(Math.abs(ratio) < 0.0995 ? 1 : 0)} %`;
  return ratio < 0 ? `−${text}` : `+${text}`;
}

export function ChangeNote({ change }: { change?: Change }) {
  if (!change) return null;
  return (
    <span className="text-sm whitespace-nowrap text-clay" title={`${words.report.before} ${change.before.toLocaleString("en")}`}>
      {changed(change)}
    </span>
  );
}
