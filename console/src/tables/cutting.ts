/** Long names cut so that what tells them apart stays: names of one list that begin alike lose that beginning, not their ends. */

/** The beginning that most names of a list share, up to a slash, where it is long enough to be worth cutting. */
export function sharedBeginning(names: string[]): string {
  const long = names.filter((name) => name.length > 24);
  if (long.length < 3) return "";
  const sorted = [...long].sort();
  const [first, last] = [sorted[0] ?? "", sorted.at(-1) ?? ""];
  let length = 0;
  while (length < Math.min(first.length, last.length) && first[length] === last[length]) length += 1;
  const end = first.lastIndexOf("/", length - 1) + 1;
  return end >= 12 ? first.slice(0, end) : "";
}

/** A name as long as there is room for: its beginning goes where others have it too, and otherwise its middle. */
export function cutName(name: string, length: number, shared: string): string {
  if (name.length <= length) return name;
  if (shared && name.startsWith(shared) && name.length - shared.length + 2 <= length) return `…/${name.slice(shared.length)}`;
  const rest = shared && name.startsWith(shared) ? `…/${name.slice(shared.length)}` : name;
  if (rest.length <= length) return rest;
  // The end tells more than the beginning: the file's name is there.
  const head = Math.ceil((length - 1) * 0.4);
  return `${rest.slice(0, head)}…${rest.slice(rest.length - (length - 1 - head))}`;
}
