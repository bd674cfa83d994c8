/** Sites × period × filters, on top of every page. */
import { Select, ToggleGroup } from "radix-ui";
import type { Status } from "../api/client";
import { dayName, shifted } from "../figures";
import { daysOf, useScope, type Scope } from "../scope";
import { words } from "../words";

const field = "rounded-md border border-line bg-sheet px-3 py-1 hover:border-sea";

export function ScopeBar({ status }: { status: Status }) {
  const [scope, change] = useScope();
  return (
    <div className="mx-auto flex max-w-[1600px] flex-wrap items-center gap-x-4 gap-y-2 px-5 py-3" aria-label="Scope" role="group">
      <SiteChoice sites={status.sites.map((site) => site.name)} chosen={scope.sites[0] ?? ""} choose={(sites) => change({ sites })} />
      {scope.page === "now" && <span className="text-quiet">{words.scope.lastHour}</span>}
      {/* What is configured has no period. */}
      {scope.page === "traffic" && <PeriodChoice zone={status.time_zone} scope={scope} change={change} />}
      {scope.page === "traffic" && <Chips scope={scope} change={change} />}
    </div>
  );
}

function SiteChoice({ sites, chosen, choose }: { sites: string[]; chosen: string; choose: (sites: string[]) => void }) {
  const all = "*";
  return (
    <Select.Root value={chosen || all} onValueChange={(site) => choose(site === all ? [] : [site])}>
      <Select.Trigger className={`${field} flex min-w-40 items-center justify-between gap-3`} aria-label={words.scope.sites}>
        <Select.Value />
        <Select.Icon className="text-quiet">▾</Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content position="popper" sideOffset={4} className="z-10 rounded-md border border-line bg-sheet py-1 shadow-lg">
          <Select.Viewport>
            {[all, ...sites].map((site) => (
              <Select.Item key={site} value={site} className="cursor-pointer px-4 py-1 outline-none data-[highlighted]:bg-sea-soft data-[state=checked]:font-semibold">
                <Select.ItemText>{site === all ? words.scope.allSites : site}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}

type Change = (change: Partial<Scope>) => void;

function PeriodChoice({ zone, scope, change }: { zone: string; scope: Scope; change: Change }) {
  const { first, last, today } = daysOf(scope, zone);
  const step = (days: number) => {
    const ending = shifted(last, days);
    change({ ending: ending >= today ? "" : ending });
  };
  const arrow = "px-2 py-1 text-quiet enabled:hover:text-ink disabled:opacity-40";
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
      <ToggleGroup.Root
        type="single"
        value={String(scope.days)}
        onValueChange={(days) => days && change({ days: Number(days) })}
        aria-label={words.scope.period}
        className="flex overflow-hidden rounded-md border border-line bg-sheet"
      >
        {Object.entries(words.scope.periods).map(([days, name]) => (
          <ToggleGroup.Item key={days} value={days} className="px-3 py-1 text-quiet hover:text-ink data-[state=on]:bg-sea-soft data-[state=on]:font-semibold data-[state=on]:text-sea">
            {name}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
      <div className="flex items-center whitespace-nowrap">
        <button type="button" className={arrow} aria-label={words.scope.earlier} onClick={() => step(-scope.days)}>
          ‹
        </button>
        <span data-testid="period">{first === last ? dayName(last, true) : `${dayName(first, first.slice(0, 4) !== last.slice(0, 4))} – ${dayName(last, true)}`}</span>
        <button type="button" className={arrow} aria-label={words.scope.later} disabled={last >= today} onClick={() => step(scope.days)}>
          ›
        </button>
      </div>
    </div>
  );
}

function Chips({ scope, change }: { scope: Scope; change: Change }) {
  const chips = [
    ...scope.only.map((filter) => ({ filter, kind: "only" as const })),
    ...scope.without.map((filter) => ({ filter, kind: "without" as const })),
  ];
  return chips.map(({ filter, kind }) => (
    <span key={kind + filter} className="flex items-center gap-1 rounded-full bg-sea-soft py-0.5 pr-1 pl-3 text-sm" data-testid="chip">
      {kind === "without" && `${words.scope.without} `}
      <span className="font-mono">{filter}</span>
      <button
        type="button"
        aria-label={`${words.scope.remove} ${filter}`}
        className="rounded-full px-2 text-quiet hover:text-ink"
        onClick={() => change({ [kind]: scope[kind].filter((other) => other !== filter) })}
      >
        ×
      </button>
    </span>
  ));
}
