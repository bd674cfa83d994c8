/** What is configured, and what would happen if…? */
import { useCheck, useSites } from "../../api/queries";
import type { Finding } from "../../api/client";
import { Failing, Loading, Stale } from "../../parts/states";
import { useScope } from "../../scope";
import { words } from "../../words";
import { Overview, SiteView } from "./site";
import { TryRequest } from "./try-request";

export function SitesPage() {
  const sites = useSites();
  const [scope] = useScope();
  if (sites.isError && !sites.data) return <Failing error={sites.error} again={() => void sites.refetch()} />;
  if (!sites.data) return <Loading />;
  const chosen = sites.data.sites.find((site) => site.name === scope.sites[0]);
  const since = new Date(sites.data.since).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" });
  return (
    <>
      {sites.isError && <Stale />}
      <TryRequest address={(chosen ?? sites.data.sites[0])?.addresses[0] ?? ""} />
      <Checked />
      {chosen ? <SiteView site={chosen} /> : <Overview sites={sites.data.sites} />}
      <p className="mt-8 text-sm text-quiet">{words.sites.inForce(sites.data.file, sites.data.revision, since)}</p>
    </>
  );
}

/** What is wrong with the configuration, or that nothing is. */
function Checked() {
  const check = useCheck();
  if (!check.data) return null;
  const errors = check.data.filter((finding) => finding.severity === "error").length;
  if (check.data.length === 0) return <p className="mt-6 text-well">{words.sites.well}</p>;
  return (
    <details className="mt-6" data-testid="check">
      <summary className={`cursor-pointer ${errors ? "text-trouble" : "text-attention-text"} font-semibold`}>
        {words.sites.found(errors, check.data.length - errors)}
      </summary>
      <ul className="mt-2">
        {check.data.map((finding) => (
          <Found key={`${finding.file}:${finding.line}:${finding.message}`} finding={finding} />
        ))}
      </ul>
    </details>
  );
}

function Found({ finding }: { finding: Finding }) {
  return (
    <li className={`mb-3 border-l-4 pl-3 ${finding.severity === "error" ? "border-trouble" : "border-attention"}`}>
      <p>{finding.message}</p>
      <p className="text-sm text-quiet">{finding.reason}</p>
      <p className="font-mono text-sm">
        {finding.file}:{finding.line} <span className="text-quiet">{finding.text.trim()}</span>
      </p>
      {finding.remedy && (
        <p className="text-sm">
          {words.sites.instead}: {finding.remedy}
        </p>
      )}
    </li>
  );
}
