/** Something wider than small windows: it scrolls by itself, by keyboard too. */
import type { ReactNode } from "react";

export function Wide({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="overflow-x-auto" role="region" aria-label={name} tabIndex={0}>
      {children}
    </div>
  );
}
