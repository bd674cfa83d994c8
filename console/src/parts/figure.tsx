/** A figure with what it is: one of a page is large, the others are subordinate to it. */
import type { ReactNode } from "react";

interface Props {
  value: string;
  name: string;
  /** How it changed. */
  change?: ReactNode;
  /** The value to the last digit. */
  exact?: string;
  isMain?: boolean;
  id?: string;
}

export function Figure({ value, name, change, exact, isMain, id }: Props) {
  return (
    <p className="pb-1">
      <span className={`block font-semibold ${isMain ? "text-6xl leading-none text-sea" : "text-3xl leading-tight"}`} title={exact} data-testid={id}>
        {value}
      </span>
      <span className="text-quiet">
        {name} {change}
      </span>
    </p>
  );
}
