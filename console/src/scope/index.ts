/**
 * Which requests are looked at: sites × period × filters.
 *
 * - `scope`: what it is, and how it stands in the address and in calls; `use-scope`: the one of the browser's address; `use-narrowing`: what a click on a value does
 * - `period`: stretches of time, `names`: what they are called; `dates`: the calendar
 */
export * from "./scope";
export * from "./use-scope";
export * from "./use-narrowing";
