/** The allowance: a half ring, filled by what was sent, with what is expected at the end of the month and its range. */
import { arc } from "d3-shape";
import { bytes, percent } from "../figures";
import { words } from "../words";

const INNER = 74;
const OUTER = 100;

interface Props {
  sent: number;
  allowance: number;
  expected?: number;
  least?: number;
  most?: number;
}

const ring = (from: number, to: number, inner: number, outer: number): string =>
  arc()({
    innerRadius: inner,
    outerRadius: outer,
    startAngle: -Math.PI / 2 + from * Math.PI,
    endAngle: -Math.PI / 2 + Math.max(from, to) * Math.PI,
  }) ?? "";

export function AllowanceArc({ sent, allowance, expected, least, most }: Props) {
  // The whole half ring is the allowance, or what is expected at most where that is more.
  const whole = Math.max(allowance, most ?? 0, sent) * 1.02;
  const part = (value: number) => Math.min(value / whole, 1);
  const isOver = sent > allowance;
  const willBeOver = (expected ?? 0) > allowance;
  const tone = isOver ? "var(--trouble)" : "var(--sea)";
  const mark = (value: number, inner: number, outer: number) => {
    const angle = Math.PI - part(value) * Math.PI;
    return { x1: Math.cos(angle) * inner, y1: -Math.sin(angle) * inner, x2: Math.cos(angle) * outer, y2: -Math.sin(angle) * outer };
  };
  return (
    <svg
      viewBox="-112 -112 224 122"
      className="block w-full max-w-md"
      role="img"
      aria-label={words.transfer.arc(bytes(sent), bytes(allowance), percent(sent, allowance), expected === undefined ? undefined : bytes(expected))}
    >
      <path d={ring(0, 1, INNER, OUTER)} fill="var(--line)" />
      {expected !== undefined && (
        <path d={ring(part(sent), part(expected), INNER, OUTER)} fill={willBeOver ? "var(--attention)" : "var(--sea)"} opacity={0.35} />
      )}
      <path d={ring(0, part(sent), INNER, OUTER)} fill={tone} />
      {least !== undefined && most !== undefined && <path d={ring(part(least), part(most), OUTER + 3, OUTER + 7)} fill="var(--clay)" />}
      <line {...mark(allowance, INNER - 6, OUTER + 4)} stroke="var(--ink)" strokeWidth={2} />
      <text x={0} y={-16} textAnchor="middle" className="fill-ink text-[30px] font-semibold">
        {percent(sent, allowance)}
      </text>
      <text x={0} y={2} textAnchor="middle" className="fill-quiet text-[11px]">
        {words.transfer.ofAllowance(bytes(sent), bytes(allowance))}
      </text>
    </svg>
  );
}
