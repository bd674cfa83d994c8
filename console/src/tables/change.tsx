/** How a figure changed since the other period. */
import { words } from "../words";
import { showChange } from "./show";
import type { Cell, Change } from "./table";

/** Small changes are quiet: those of a few in a hundred, and those that chance alone makes of figures of this size. */
function isWorthSeeing({ before, difference, ratio }: Change): boolean {
  return Math.abs(ratio ?? 1) >= 0.05 && Math.abs(difference) > 2 * Math.sqrt(Math.max(1, before + Math.abs(difference)));
}

export function ChangeNote({ change }: { change?: Change }) {
  if (!change) return null;
  return (
    <span
      className={`text-sm whitespace-nowrap ${isWorthSeeing(change) ? "text-clay" : "text-quiet"}`}
      title={`${words.report.before} ${change.before.toLocaleString("en")}`}
    >
      {showChange(change)}
    </span>
  );
}

/** How the share that something has of a whole changed, in points of a hundred: a share is compared with a share. */
export function ShareNote({ part, all, partBefore, allBefore }: { part: number; all: number; partBefore?: Cell; allBefore?: Cell }) {
  if (typeof partBefore !== "number" || typeof allBefore !== "number" || all === 0 || allBefore === 0) return null;
  const share = (100 * partBefore) / allBefore;
  const points = (100 * part) / all - share;
  const text = Math.abs(points) < 0.05 ? "±0" : `${points < 0 ? "−" : "+"}${Math.abs(points).toFixed(1)}`;
  return (
    <span className="text-sm whitespace-nowrap text-clay" title={`${words.report.before} ${share.toFixed(1)} %`}>
      {words.report.points(text)}
    </span>
  );
}
