/** How fields, buttons and menus look, once for all of them. */
export const styles = {
  field: "h-9 rounded-md border border-line bg-sheet px-3 hover:border-sea",
  button: "h-9 rounded-md border border-line bg-sheet px-3 hover:border-sea disabled:opacity-50",
  strong: "h-9 rounded-md bg-sea px-4 font-semibold text-sheet disabled:opacity-50",
  quiet: "text-quiet hover:text-ink hover:underline",
  menu: "z-20 max-h-[70vh] overflow-auto rounded-md border border-line bg-sheet py-1 shadow-lg",
  window: "z-20 max-h-[85vh] overflow-auto rounded-md border border-line bg-sheet p-4 shadow-lg",
  item: "flex cursor-pointer items-center gap-2 px-4 py-1 outline-none data-[highlighted]:bg-sea-soft data-[state=checked]:font-semibold",
  toggle: "h-9 px-3 text-quiet hover:text-ink data-[state=on]:bg-sea-soft data-[state=on]:font-semibold data-[state=on]:text-sea",
  toggles: "flex overflow-hidden rounded-md border border-line bg-sheet",
};
