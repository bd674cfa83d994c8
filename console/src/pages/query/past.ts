/** Statements that were run in this browser, the last first. */
const KEY = "exedra.statements";
/** How many are kept. */
const MOST = 40;

export function past(): string[] {
  try {
    const kept: unknown = JSON.parse(window.localStorage.getItem(KEY) ?? "[]");
    return Array.isArray(kept) ? kept.filter((one) => typeof one === "string") : [];
  } catch {
    return [];
  }
}

export function remember(statement: string): void {
  const text = statement.trim();
  if (text === "") return;
  const all = [text, ...past().filter((one) => one !== text)].slice(0, MOST);
  try {
    window.localStorage.setItem(KEY, JSON.stringify(all));
  } catch {
    // A browser that keeps nothing has no history.
  }
}
