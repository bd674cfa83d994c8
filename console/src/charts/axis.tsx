/** Scale lines of a picture with their values, the same in every picture. */
import type { ScaleLinear } from "d3-scale";

/** Room beside a picture for the values of its scale, and below it for what stands there. */
export const BESIDE = 62;
export const BELOW = 22;

/** A scale ends above the highest value: at a round one. */
interface Props {
  scale: ScaleLinear<number, number>;
  width: number;
  show: (value: number) => string;
  /** How many lines, about. */
  lines: number;
}

export function ScaleLines({ scale, width, show, lines }: Props) {
  return scale.ticks(lines).map((value) => (
    <g key={value}>
      <line x1={BESIDE} x2={width} y1={scale(value)} y2={scale(value)} className="stroke-line" />
      <text x={BESIDE - 8} y={scale(value) + 4} textAnchor="end" className="fill-quiet text-xs">
        {show(value)}
      </text>
    </g>
  ));
}
