/** Servers, people or crawlers, and what the period stands beside. */
import { Select } from "radix-ui";
import { useSources } from "../../api/queries";
import type { Scope } from "../../scope";
import { spanOf, todayIn, yearBefore } from "../../scope/period";
import { words } from "../../words";
import { styles } from "../styles";
import Several from "./several";
import type { Change } from "./sites";

interface Props {
  scope: Scope;
  change: Change;
}

/** Shown only where logs of several machines have been imported, or one is chosen. */
export function ServerChoice({ scope, change }: Props) {
  const sources = useSources(scope.sites);
  const names = [...new Set((sources.data ?? []).map((source) => source.server).filter((server) => typeof server === "string"))];
  if (names.length === 0 && scope.servers.length === 0) return null;
  return <Several label={words.scope.servers} all={words.scope.allServers} names={names} chosen={scope.servers} choose={(servers) => change({ servers })} />;
}

/** One of a few. Radix gives an empty text another meaning, so it has a name here. */
export function OneOf({
  label,
  value,
  options,
  choose,
  className,
}: {
  label: string;
  value: string;
  options: [string, string][];
  choose: (value: string) => void;
  className?: string;
}) {
  return (
    <Select.Root value={value || "-"} onValueChange={(value) => choose(value === "-" ? "" : value)}>
      <Select.Trigger className={`${styles.button} flex items-center justify-between gap-3 ${className ?? ""}`} aria-label={label}>
        <Select.Value />
        <Select.Icon className="text-quiet">▾</Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content position="popper" sideOffset={4} className={styles.menu}>
          <Select.Viewport>
            {options.map(([value, name]) => (
              <Select.Item key={value} value={value || "-"} className={styles.item}>
                <Select.ItemText>{name}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}

export function WhoChoice({ scope, change }: Props) {
  return (
    <OneOf label={words.scope.who} value={scope.who} options={Object.entries(words.scope.whoOptions)} choose={(who) => change({ who: who as Scope["who"] })} />
  );
}

export function AgainstChoice({ scope, change, zone }: Props & { zone: string }) {
  const year = yearBefore(spanOf(scope.period, todayIn(zone)));
  const options: [string, string][] = [
    ["", words.scope.againstNothing],
    ["previous", words.scope.againstPrevious],
    [year, words.scope.againstYear],
  ];
  if (scope.against && !options.some(([value]) => value === scope.against)) options.push([scope.against, words.scope.againstOther(scope.against)]);
  return <OneOf label={words.scope.against} value={scope.against} options={options} choose={(against) => change({ against })} />;
}
