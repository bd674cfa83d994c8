/** A site as it is configured: hosts, rules with how often they fired, settings with where they come from. */
import type { Rule, Setting, Site } from "../../api/client";
import { useState } from "react";
import { useExposures } from "../../api/queries";
import { styles } from "../../parts/styles";
import { Wide } from "../../parts/wide";
import { useScope } from "../../scope";
import { words } from "../../words";
import { Weighing } from "./weighing";

/** All sites, each to be chosen. */
export function Overview({ sites }: { sites: Site[] }) {
  const [, change] = useScope();
  return (
    <div className="mt-6 grid gap-x-10 gap-y-8 lg:grid-cols-3">
      {sites.map((site) => (
        <section key={site.name} aria-label={site.name} className="min-w-0">
          <h2 className="border-b border-line pb-1 text-xl font-semibold">
            <button type="button" className="hover:text-sea" onClick={() => change({ sites: [site.name] })}>
              {site.name}
            </button>
          </h2>
          <Hosts site={site} />
          <p className="mt-2 text-sm break-all text-quiet">{site.folder ?? "no folder: its rules answer"}</p>
          <p className="mt-1 text-sm">
            <button type="button" className="text-sea hover:underline" onClick={() => change({ sites: [site.name] })}>
              {words.sites.ruleCount(site.rule_count)}
            </button>
          </p>
        </section>
      ))}
    </div>
  );
}

export function SiteView({ site, isOperator }: { site: Site; isOperator: boolean }) {
  const notes = [site.requires_https && words.sites.httpsRequired, site.is_default && words.sites.isDefault].filter(Boolean);
  return (
    <>
      <div className="mt-8 flex flex-wrap items-baseline gap-x-4 border-b border-line pb-1">
        <h2 className="text-xl font-semibold">{site.name}</h2>
        <span className="text-sm text-quiet">{[site.folder ?? "no folder", ...notes].join(" · ")}</span>
      </div>
      <Hosts site={site} />
      <div className="mt-8 grid gap-x-10 gap-y-8 xl:grid-cols-[1fr_26rem]">
        <div className="min-w-0 space-y-8">
          <Rules site={site} />
          {isOperator && <Exposures site={site.name} />}
          {isOperator && site.folder && <Weighing key={site.name} site={site.name} />}
        </div>
        <Settings settings={site.settings} />
      </div>
    </>
  );
}

function Hosts({ site }: { site: Site }) {
  return (
    <ul className="mt-2" aria-label={words.sites.hosts}>
      {site.hosts.map((host) => (
        <li key={host.name} className="flex flex-wrap items-baseline gap-x-3">
          <span className="font-mono text-[0.95rem]">{host.name}</span>
          {host.is_main && <span className="text-sm font-semibold text-sea">{words.sites.mainHost}</span>}
          <span className={`text-sm ${host.certificate && !host.certificate.is_made && host.certificate.days < 14 ? "text-trouble" : "text-quiet"}`}>
            {!host.certificate
              ? words.sites.noHttps
              : host.certificate.is_made
                ? words.sites.made
                : words.sites.vouched(host.certificate.issuer, host.certificate.days)}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Rules({ site }: { site: Site }) {
  const most = Math.max(1, ...site.rules.map((rule) => rule.fired));
  return (
    <section className="min-w-0" aria-label={words.sites.rules}>
      <h3 className="font-semibold">{words.sites.rules}</h3>
      {site.rules.length === 0 && <p className="mt-2 text-quiet">{words.sites.noRules}</p>}
      {site.rules.length > 0 && (
        <Wide name={words.sites.rules}>
          <table className="w-full min-w-[40rem] text-[0.95rem]">
            <thead>
              <tr className="border-b border-line text-sm text-quiet">
                <th scope="col" className="py-1 text-left font-normal">
                  {words.sites.rule}
                </th>
                <th scope="col" className="py-1 text-left font-normal">
                  {words.sites.what}
                </th>
                <th scope="col" className="py-1 text-left font-normal">
                  {words.sites.where}
                </th>
                <th scope="col" className="w-24 py-1 text-right font-normal" title={words.sites.firedAbout}>
                  {words.sites.fired}
                </th>
              </tr>
            </thead>
            <tbody>
              {site.rules.map((rule, place) => (
                <RuleRow key={place} rule={rule} share={rule.fired / most} />
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {site.rule_count > site.rules.length && <p className="mt-2 text-sm text-quiet">{words.sites.moreRules(site.rules.length, site.rule_count)}</p>}
    </section>
  );
}

function RuleRow({ rule, share }: { rule: Rule; share: number }) {
  return (
    <tr className="border-b border-line align-top" data-testid={`rule-${rule.name}`}>
      <td className="py-1.5 pr-4">
        <p>{rule.name}</p>
        <p className="font-mono text-sm break-all text-quiet">{rule.path ?? words.sites.anyPath}</p>
        {rule.when.map((condition) => (
          <p key={condition} className="font-mono text-sm break-all text-quiet">
            {condition}
          </p>
        ))}
      </td>
      <td className="py-1.5 pr-4">
        {rule.effects.map((effect) => (
          <p key={effect.name}>
            {effect.name} <span className="font-mono text-sm break-all">{effect.value}</span>
          </p>
        ))}
      </td>
      <td className="py-1.5 pr-4 font-mono text-sm whitespace-nowrap text-quiet" title={rule.file}>
        {rule.file.split("/").pop()}:{rule.line}
      </td>
      <td className="py-1.5 text-right">
        {rule.fired.toLocaleString("en")}
        <span aria-hidden="true" className="mt-1 ml-auto block h-1 bg-sea" style={{ width: `${Math.round(share * 100)}%` }} />
      </td>
    </tr>
  );
}

/** What a walk through the site as a stranger finds; it may take a while, so it is asked for. */
function Exposures({ site }: { site: string }) {
  const [isAsked, setAsked] = useState(false);
  const exposures = useExposures(site, isAsked);
  const said = words.sites;
  return (
    <section aria-label={said.exposures} data-testid="exposures">
      <h3 className="font-semibold">{said.exposures}</h3>
      {!isAsked && (
        <button type="button" className={`${styles.button} mt-2`} onClick={() => setAsked(true)}>
          {said.look}
        </button>
      )}
      {isAsked && exposures.isPending && <p className="mt-2 text-quiet">{said.looking}</p>}
      {exposures.isError && <p className="mt-2 text-trouble">{exposures.error.message}</p>}
      {exposures.data?.length === 0 && <p className="mt-2 text-well">{said.noExposures}</p>}
      <ul className="mt-2">
        {exposures.data?.map((exposure) => (
          <li key={exposure.address + exposure.kind} className="mb-2 border-l-4 border-attention pl-3">
            <p>
              <span className="font-mono text-sm break-all">{exposure.address}</span> <span className="text-quiet">{exposure.kind}</span>
            </p>
            <p className="text-sm text-quiet">
              {exposure.reason}. {exposure.remedy}
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Settings({ settings }: { settings: Setting[] }) {
  return (
    <section className="min-w-0" aria-label={words.sites.settings}>
      <h3 className="font-semibold">{words.sites.settings}</h3>
      <dl className="text-sm">
        {settings.map((setting) => (
          <div key={setting.name} className="grid grid-cols-[9.5rem_1fr] gap-2 border-b border-line py-1">
            <dt>{setting.name}</dt>
            <dd>
              <span className="break-all">{setting.value}</span>
              <span className="block font-mono text-xs text-quiet" title={setting.file ?? undefined}>
                {setting.file ? `${setting.file.split("/").slice(-2).join("/")}:${setting.line}` : words.sites.unsaid}
              </span>
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
}
