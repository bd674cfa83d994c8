/** The one list of pages: what each is called, which parts of the scope it has to do with, and where it comes from. */
import { lazy, type ComponentType, type LazyExoticComponent } from "react";
import { words } from "../words";
import { NowPage } from "./now";
import type { PageProps } from "./props";

export interface Page {
  /** Its path, and its key among the words. */
  path: string;
  /** Which parts of the scope mean something on it. */
  scope: "all" | "sites";
  view: ComponentType<PageProps> | LazyExoticComponent<ComponentType<PageProps>>;
}

/** The first view does not wait for pages that nobody has asked for. */
const PAGES: Page[] = [
  { path: "now", scope: "sites", view: NowPage },
  { path: "traffic", scope: "all", view: lazy(() => import("./traffic")) },
  { path: "people", scope: "all", view: lazy(() => import("./people")) },
  { path: "trouble", scope: "all", view: lazy(() => import("./trouble")) },
  { path: "transfer", scope: "all", view: lazy(() => import("./transfer")) },
  { path: "query", scope: "all", view: lazy(() => import("./query")) },
  { path: "sites", scope: "sites", view: lazy(() => import("./sites")) },
  { path: "watch", scope: "sites", view: lazy(() => import("./watch")) },
];

export const pages = (): Page[] => PAGES;

export const pageOf = (path: string): Page | undefined => PAGES.find((page) => page.path === path);

/** What a page is called. */
export const nameOf = (path: string): string => words.pages[path as keyof typeof words.pages]?.name ?? words.noPage.title;
