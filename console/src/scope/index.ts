/**
 * Which requests are looked at: sites × period × filters.
 *
 * - `scope`: what it is, and how it stands in the address and in calls; `use-scope`: the one of the browser's address
 * - `period`: stretches of time, `names`: what they are called; `dates`: the calendar
 */
export * from "./scope";
export * from "./use-scope";
