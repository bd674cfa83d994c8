/** Which sites: a few stand side by side, many are in a menu. */
import { lazy, Suspense } from "react";
import type { Scope } from "../../scope";
import { words } from "../../words";
import { styles } from "../styles";

const Several = lazy(() => import("./several"));

export type Change = (change: Partial<Scope>) => void;

/** So many names stand side by side. */
const FEW = 5;

interface Props {
  sites: string[];
  scope: Scope;
  change: Change;
}

export function SiteChoice({ sites, scope, change }: Props) {
  const known = [...new Set([...sites, ...scope.sites])];
  if (known.length > FEW) {
    return (
      <Suspense fallback={null}>
        <Several label={words.scope.sites} all={words.scope.allSites} names={known} chosen={scope.sites} choose={(sites) => change({ sites })} />
      </Suspense>
    );
  }
  // With Ctrl or Shift a site is added to the others, or taken from them.
  const choose = (event: React.MouseEvent, site: string) => {
    const isMore = event.ctrlKey || event.metaKey || event.shiftKey;
    const others = scope.sites.filter((other) => other !== site);
    change({ sites: !isMore ? [site] : others.length < scope.sites.length ? others : [...others, site] });
  };
  const look = `${styles.toggle} aria-pressed:bg-sea-soft aria-pressed:font-semibold aria-pressed:text-sea`;
  return (
    <div role="group" aria-label={words.scope.sites} title={words.scope.sitesAbout} className={`${styles.toggles} max-w-full flex-wrap`}>
      <button type="button" className={look} aria-pressed={scope.sites.length === 0} onClick={() => change({ sites: [] })}>
        {words.scope.allSites}
      </button>
      {known.map((site) => (
        <button key={site} type="button" className={look} aria-pressed={scope.sites.includes(site)} onClick={(event) => choose(event, site)}>
          {site}
        </button>
      ))}
    </div>
  );
}
