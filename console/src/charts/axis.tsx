/** Scale lines of a picture with their values, the same in every picture. */
import { scaleLinear, type ScaleLinear } from "d3-scale";

/** Room beside a picture for the values of its scale, and below it for what stands there. */
export const BESIDE = 62;
export const BELOW = 22;

/** How many scale lines a picture of a height has, about. */
const linesOf = (height: number): number => (height < 150 ? 2 : 3);

/** Heights by values, and the values at which lines are drawn. */
export interface Heights {
  y: ScaleLinear<number, number>;
  lines: number[];
}

/** A scale from nothing to a round value that is no less than the highest, so that its last line is above everything that is drawn. */
export function heights(highest: number, height: number): Heights {
  const range = [height - BELOW, 10];
  if (!(highest > 0)) return { y: scaleLinear([0, 1], range), lines: [0] };
  const [first = 0, second = highest] = scaleLinear([0, highest], [0, 1]).ticks(linesOf(height));
  const step = second - first;
  const count = Math.ceil(highest / step - 1e-9);
  return { y: scaleLinear([0, count * step], range), lines: Array.from({ length: count + 1 }, (_, line) => line * step) };
}

interface Props extends Heights {
  width: number;
  show: (value: number) => string;
}

export function ScaleLines({ y, lines, width, show }: Props) {
  return lines.map((value) => (
    <g key={value}>
      <line x1={BESIDE} x2={width} y1={y(value)} y2={y(value)} className="stroke-line" />
      <text x={BESIDE - 8} y={y(value) + 4} textAnchor="end" className="fill-quiet text-xs">
        {show(value)}
      </text>
    </g>
  ));
}
