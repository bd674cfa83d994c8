/** What the colours of a picture stand for, in the order in which they are drawn, with their figures. */
export interface LegendPart {
  name: string;
  colour: string;
  /** Its figure, as people read it. */
  value?: string;
  /** Drawn as a line round nothing: another period. */
  isOutline?: boolean;
}

export function Legend({ parts }: { parts: LegendPart[] }) {
  return (
    <ul className="flex flex-wrap gap-x-5 gap-y-1 text-sm text-quiet">
      {parts.map((part) => (
        <li key={part.name} className="flex items-center gap-1.5">
          <Swatch colour={part.colour} isOutline={part.isOutline} />
          {part.name}
          {part.value !== undefined && <span className="font-semibold text-ink">{part.value}</span>}
        </li>
      ))}
    </ul>
  );
}

export function Swatch({ colour, isOutline }: { colour: string; isOutline?: boolean }) {
  return (
    <span
      aria-hidden="true"
      className={`inline-block h-2.5 w-2.5 shrink-0 rounded-sm ${isOutline ? "border border-dashed" : ""}`}
      style={isOutline ? { borderColor: colour } : { background: colour }}
    />
  );
}
