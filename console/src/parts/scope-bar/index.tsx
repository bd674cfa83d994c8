/**
 * Sites × period × against × filters, on top of every page: what a page has nothing to do with is not shown on it.
 *
 * - `sites`: which sites; all other parts come with the first page that has them
 * - `whole`: `choices` (servers, people or crawlers, against what), `period-choice` and `calendar`, `filter-field` and `chips`, `report-menu`
 */
import { lazy, Suspense } from "react";
import type { Status } from "../../api/client";
import { useScope } from "../../scope";
import { words } from "../../words";
import { SiteChoice } from "./sites";

const Whole = lazy(() => import("./whole"));

/** `parts` says which of them mean something on the page that is shown. */
export function ScopeBar({ status, parts }: { status: Status; parts: "all" | "sites" }) {
  const [scope, change] = useScope();
  return (
    <div role="group" aria-label={words.scope.title} className="border-b border-line bg-sheet/60 print:hidden">
      <div className="mx-auto flex min-h-14 max-w-[1600px] flex-wrap items-center gap-x-3 gap-y-2 px-4 py-2.5 sm:px-5">
        <SiteChoice sites={status.sites.map((site) => site.name)} scope={scope} change={change} />
        {scope.page === "now" && <span className="text-quiet">{words.scope.lastHour}</span>}
        {parts === "all" && (
          <Suspense fallback={null}>
            <Whole zone={status.time_zone} scope={scope} change={change} />
          </Suspense>
        )}
      </div>
    </div>
  );
}
