/** A filter to be typed: columns and values are offered as one types, and what is wrong with it is said before it holds. */
import { useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";
import { call, type LogColumn, type Survey } from "../../api/client";
import { useColumns } from "../../api/queries";
import { narrowed, type Scope } from "../../scope";
import { filterOf } from "../../tables/table";
import { words } from "../../words";
import { styles } from "../styles";
import type { Change } from "./sites";

/** How much is offered at a time. */
const MOST = 8;

interface Offer {
  /** What the field holds then. */
  text: string;
  about: string;
  /** Whether it is a whole filter, and not the beginning of one. */
  isWhole: boolean;
}

export function FilterField({ scope, change }: { scope: Scope; change: Change }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState("");
  const [isOpen, setOpen] = useState(false);
  const [marked, setMarked] = useState(-1);
  const columns = useColumns();
  const values = useValues();
  const list = useId();
  const offers = isOpen ? offersFor(text, columns.data ?? [], values) : [];

  const add = async (filter: string) => {
    const without = filter.startsWith("!");
    const plain = filter.replace(/^!/, "").trim();
    if (plain === "") return;
    // The service knows the grammar; a period without a length costs it nothing.
    const query = new URLSearchParams({ only: plain, from: "2000-01-01", until: "2000-01-02", show: "totals" });
    try {
      await call(`survey?${query}`);
    } catch (error) {
      setWrong(error instanceof Error ? error.message : String(error));
      return;
    }
    setText("");
    setWrong("");
    setOpen(false);
    change(narrowed(scope, plain, without));
  };
  const take = (offer: Offer) => {
    setMarked(-1);
    setWrong("");
    if (offer.isWhole) void add(offer.text);
    else setText(offer.text);
  };
  const onKeyDown = (event: React.KeyboardEvent) => {
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      setOpen(true);
      const move = event.key === "ArrowDown" ? 1 : -1;
      setMarked((place) => (place + move + offers.length + 1) % (offers.length + 1));
    } else if (event.key === "Enter") {
      event.preventDefault();
      const offer = offers[marked];
      if (offer) take(offer);
      else void add(text);
    } else if (event.key === "Escape") {
      setOpen(false);
      setMarked(-1);
    }
  };
  return (
    <div className="relative">
      <input
        role="combobox"
        aria-expanded={offers.length > 0}
        aria-controls={list}
        aria-activedescendant={offers[marked] ? `${list}-${marked}` : undefined}
        aria-label={words.scope.filter}
        aria-invalid={wrong !== ""}
        aria-describedby={wrong ? `${list}-wrong` : undefined}
        autoComplete="off"
        spellCheck={false}
        placeholder={words.scope.filterExample}
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          setWrong("");
          setMarked(-1);
          setOpen(true);
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={onKeyDown}
        className={`${styles.field} w-56 font-mono text-sm ${wrong ? "border-trouble" : ""}`}
      />
      <ul
        id={list}
        role="listbox"
        aria-label={words.scope.filter}
        className={`${styles.menu} absolute top-full left-0 mt-1 w-[min(28rem,90vw)] ${offers.length === 0 ? "hidden" : ""}`}
      >
        {offers.map((offer, place) => (
          <li
            key={offer.text}
            id={`${list}-${place}`}
            role="option"
            aria-selected={place === marked}
            className={`flex cursor-pointer items-baseline gap-3 px-3 py-1 ${place === marked ? "bg-sea-soft" : "hover:bg-sea-soft"}`}
            onMouseDown={(event) => {
              event.preventDefault();
              take(offer);
            }}
          >
            <span className="font-mono text-sm whitespace-nowrap">{offer.text}</span>
            <span className="truncate text-sm text-quiet">{offer.about}</span>
          </li>
        ))}
      </ul>
      {wrong && (
        <p
          id={`${list}-wrong`}
          role="alert"
          className="absolute top-full left-0 z-10 mt-1 w-[min(28rem,90vw)] rounded-md border border-trouble bg-sheet px-3 py-2 text-sm"
        >
          {wrong}
        </p>
      )}
    </div>
  );
}

/** Columns whose names fit what is typed; behind an operator, values of the column. */
export function offersFor(text: string, columns: LogColumn[], values: Map<string, string[]>): Offer[] {
  const mark = text.startsWith("!") ? "!" : "";
  const typed = text.slice(mark.length);
  const parts = /^([a-z_]+)(!=|>=|<=|=|>|<)(.*)$/.exec(typed);
  const column = parts && columns.find((column) => column.name === parts[1]);
  if (!parts || !column) {
    const fits = columns.filter((column) => column.name.includes(typed.trim().toLowerCase()));
    fits.sort((one, other) => Number(other.name.startsWith(typed)) - Number(one.name.startsWith(typed)));
    return fits.slice(0, MOST).map((column) => ({ text: `${mark}${column.name}=`, about: `${column.meaning} ${column.example}`, isWhole: false }));
  }
  const [, name, operator, value = ""] = parts;
  const earlier = value.slice(0, value.lastIndexOf(",") + 1);
  const wanted = value.slice(earlier.length).toLowerCase();
  const known = [...new Set([...column.values, ...(values.get(column.name) ?? [])])];
  return known
    .filter((one) => one.toLowerCase().includes(wanted))
    .slice(0, MOST)
    .map((one) => ({ text: `${mark}${name}${operator}${earlier}${one}`, about: "", isWhole: true }));
}

/** Values of columns, from the tables that have been counted. */
function useValues(): Map<string, string[]> {
  const client = useQueryClient();
  const values = new Map<string, string[]>();
  for (const [, survey] of client.getQueriesData<Survey>({ queryKey: ["survey"] })) {
    for (const table of Object.values(survey?.tables ?? {})) {
      for (const column of table.columns.filter((column) => column.filter)) {
        const found = table.rows.map((row) => filterOf(column, row[column.name] ?? null)?.slice((column.filter?.length ?? 0) + 1) ?? "");
        values.set(column.filter ?? "", [...(values.get(column.filter ?? "") ?? []), ...found.filter((value) => value !== "")]);
      }
    }
  }
  return values;
}
