/** A panel beside the page: what it is about can still be seen and used. Escape closes it; what opened it has the focus again. */
import { useEffect, useRef, type ReactNode } from "react";
import { words } from "../words";

/** Wide ones are for what is worked on, and not only looked at. */
export function Panel({ title, close, isWide = false, children }: { title: ReactNode; close: () => void; isWide?: boolean; children: ReactNode }) {
  const element = useRef<HTMLElement>(null);
  useEffect(() => {
    const before = document.activeElement as HTMLElement | null;
    element.current?.focus();
    return () => before?.focus();
  }, []);
  return (
    <aside
      ref={element}
      tabIndex={-1}
      aria-label={typeof title === "string" ? title : undefined}
      onKeyDown={(event) => event.key === "Escape" && close()}
      className={`fixed inset-y-0 right-0 z-10 w-full overflow-y-auto ${isWide ? "max-w-4xl" : "max-w-xl"} border-l border-line bg-sheet p-5 shadow-xl outline-none print:hidden`}
      data-testid="panel"
    >
      <div className="flex items-baseline gap-4 border-b border-line pb-2">
        <h2 className="min-w-0 text-xl font-semibold break-words">{title}</h2>
        <button type="button" className="ml-auto rounded-md px-2 text-xl text-quiet hover:text-ink" aria-label={words.trail.close} onClick={close}>
          ×
        </button>
      </div>
      {children}
    </aside>
  );
}
