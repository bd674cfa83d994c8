/** What is configured, and what would happen if…? */
import { ToggleGroup } from "radix-ui";
import { lazy, Suspense } from "react";
import { useMe, useSites } from "../../api/queries";
import type { Sites } from "../../api/client";
import { FindingsList } from "../../parts/findings";
import { Loading, QueryView } from "../../parts/states";
import { styles } from "../../parts/styles";
import { useScope } from "../../scope";
import { words } from "../../words";
import type { PageProps } from "../props";
import { Checked } from "./checked";
import { Overview, SiteView } from "./site";
import { TryRequest } from "./try-request";

/** The editor is large, and most who come here only look. */
const Files = lazy(() => import("./configuration"));
const Published = lazy(() => import("./published"));
const Revisions = lazy(() => import("./configuration/revisions"));

export default function SitesPage({ zone }: PageProps) {
  const [scope, change] = useScope();
  const me = useMe();
  const sites = useSites();
  const isOperator = me.data?.role === "operator" && !me.data.sites;
  const view = isOperator && scope.view in words.sites.views ? scope.view : "site";
  return (
    <>
      {isOperator && (
        <ToggleGroup.Root
          type="single"
          value={view}
          onValueChange={(view) => view && change({ view: view === "site" ? "" : view })}
          aria-label={words.sites.change}
          className={`${styles.toggles} mb-4 w-fit max-w-full flex-wrap`}
        >
          {Object.entries(words.sites.views).map(([view, name]) => (
            <ToggleGroup.Item key={view} value={view} className={styles.toggle}>
              {name}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
      )}
      <Suspense fallback={<Loading />}>
        {view === "files" && <Files />}
        {view === "published" && <Published zone={zone} />}
        {view === "revisions" && <Revisions zone={zone} />}
        {view === "site" && <QueryView query={sites}>{(sites) => <Configured sites={sites} zone={zone} isOperator={isOperator} />}</QueryView>}
      </Suspense>
    </>
  );
}

function Configured({ sites, zone, isOperator }: { sites: Sites; zone: string; isOperator: boolean }) {
  const [scope] = useScope();
  const chosen = sites.sites.find((site) => site.name === scope.sites[0]);
  const since = new Intl.DateTimeFormat("en-GB", { timeZone: zone, dateStyle: "medium", timeStyle: "short" }).format(new Date(sites.since));
  return (
    <>
      <TryRequest address={(chosen ?? sites.sites[0])?.addresses[0] ?? ""} />
      {isOperator && <Checked />}
      <FindingsList page="sites" />
      {chosen ? <SiteView site={chosen} isOperator={isOperator} /> : <Overview sites={sites.sites} />}
      <p className="mt-8 text-sm text-quiet">{words.sites.inForce(sites.file, sites.revision, since)}</p>
    </>
  );
}
