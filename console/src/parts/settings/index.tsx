/** The menu of what people set for themselves; what is in it comes when it is opened. */
import { lazy, Suspense, useEffect, useRef, useState } from "react";
import type { Me } from "../../api/client";
import { words } from "../../words";
import { styles } from "../styles";

const Settings = lazy(() => import("./content"));

export function SettingsMenu({ me, signOut }: { me?: Me; signOut: () => void }) {
  const [isOpen, setOpen] = useState(false);
  const element = useRef<HTMLDivElement>(null);
  const button = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    if (!isOpen) return;
    const close = (event: Event) => {
      if (!element.current?.contains(event.target as Node)) setOpen(false);
    };
    document.addEventListener("pointerdown", close);
    document.addEventListener("focusin", close);
    return () => {
      document.removeEventListener("pointerdown", close);
      document.removeEventListener("focusin", close);
    };
  }, [isOpen]);
  const onKeyDown = (event: React.KeyboardEvent) => {
    if (event.key !== "Escape" || !isOpen) return;
    setOpen(false);
    button.current?.focus();
  };
  return (
    <div ref={element} className="relative" onKeyDown={onKeyDown}>
      <button
        ref={button}
        type="button"
        className="flex items-center gap-1.5 text-quiet hover:text-ink"
        aria-label={`${words.settings.title}: ${me?.name ?? ""}`}
        aria-expanded={isOpen}
        onClick={() => setOpen(!isOpen)}
      >
        {me?.name ?? words.settings.title}
        <span aria-hidden="true">▾</span>
      </button>
      {isOpen && (
        <div className={`${styles.window} absolute top-full right-0 mt-1 w-80 max-w-[95vw]`}>
          <Suspense fallback={<p className="text-quiet">{words.states.loading}</p>}>
            <Settings me={me} signOut={signOut} />
          </Suspense>
        </div>
      )}
    </div>
  );
}
