/** What people set for themselves. It is remembered in their browser and is not in the address: a view that is sent shows the same. */
import { useSyncExternalStore } from "react";

export interface Preferences {
  /** How many rows a list shows at first. */
  rows: 12 | 25 | 50 | 100;
  show: "both" | "pictures" | "lists";
  theme: "auto" | "light" | "dark";
  /** Mon 14 Sep, or 2026-09-14. */
  dates: "words" | "numbers";
  clock: "24" | "12";
}

/** What each may be, the usual first. */
export const CHOICES: { [Key in keyof Preferences]: readonly Preferences[Key][] } = {
  rows: [12, 25, 50, 100],
  show: ["both", "pictures", "lists"],
  theme: ["auto", "light", "dark"],
  dates: ["words", "numbers"],
  clock: ["24", "12"],
};

const KEY = "exedra-preferences";
const listeners = new Set<() => void>();
let current = read();

function read(): Preferences {
  const usual = Object.fromEntries(Object.entries(CHOICES).map(([key, values]) => [key, values[0]])) as unknown as Preferences;
  try {
    const kept = JSON.parse(window.localStorage.getItem(KEY) ?? "{}") as Record<string, unknown>;
    const sound = Object.entries(CHOICES).filter(([key, values]) => (values as readonly unknown[]).includes(kept[key]));
    return { ...usual, ...Object.fromEntries(sound.map(([key]) => [key, kept[key]])) };
  } catch {
    // Nothing is kept, or the browser keeps nothing.
    return usual;
  }
}

/** What is set. */
export const preferences = (): Preferences => current;

/** Sets some of it. */
export function prefer(change: Partial<Preferences>): void {
  current = { ...current, ...change };
  try {
    window.localStorage.setItem(KEY, JSON.stringify(current));
  } catch {
    // It holds until the page is left.
  }
  applyTheme();
  listeners.forEach((listener) => listener());
}

/** Puts the chosen theme on the page. */
export function applyTheme(): void {
  if (current.theme === "auto") delete document.documentElement.dataset.theme;
  else document.documentElement.dataset.theme = current.theme;
}

/** What is set, and again whenever that changes. */
export const usePreferences = (): Preferences =>
  useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => current,
  );
