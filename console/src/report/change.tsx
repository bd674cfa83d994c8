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

/** How the share that something has of a whole changed, in points of a hundred: a share is compared with a share. */
export function ShareNote({ now, all, change, before }: { now: number; all: number; change?: Change; before?: Change }) {
  if (!change || !before || all === 0 || before.before === 0) return null;
  const share = (100 * change.before) / before.before;
  const points = (100 * now) / all - share;
  const text = Math.abs(points) < 0.05 ? "±0" : `${points < 0 ? "−" : "+"}${Math.abs(points).toFixed(1)}`;
  return (
    <span className="text-sm whitespace-nowrap text-clay" title={`${words.report.before} ${share.toFixed(1)} %`}>
      {words.report.points(text)}
    </span>
  );
}

export function ChangeNote({ change }: { change?: Change }) {
  if (!change) return null;
  return (
    <span className="text-sm whitespace-nowrap text-clay" title={`${words.report.before} ${change.before.toLocaleString("en")}`}>
      {changed(change)}
    </span>
  );
}
