/** Some of many names, in a menu. */
import { DropdownMenu } from "radix-ui";
import { words } from "../../words";
import { styles } from "../styles";

/** Some of many names; none chosen means all. */
export default function Several({
  label,
  all,
  names,
  chosen,
  choose,
}: {
  label: string;
  all: string;
  names: string[];
  chosen: string[];
  choose: (names: string[]) => void;
}) {
  const shown = chosen.length === 0 ? all : chosen.length > 2 ? `${chosen[0]} ${words.report.andMore(chosen.length - 1)}` : chosen.join(", ");
  const known = [...new Set([...names, ...chosen])];
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className={`${styles.button} flex min-w-32 items-center justify-between gap-3`} aria-label={label}>
        {shown}
        <span aria-hidden="true" className="text-quiet">
          ▾
        </span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className={styles.menu} sideOffset={4} align="start">
          <DropdownMenu.Item className={styles.item} onSelect={() => choose([])}>
            <span className="w-4">{chosen.length === 0 ? "✓" : ""}</span>
            {all}
          </DropdownMenu.Item>
          {known.map((name) => (
            <DropdownMenu.Item key={name} className={styles.item} onSelect={() => choose([name])}>
              <span className="w-4">{chosen.length === 1 && chosen[0] === name ? "✓" : ""}</span>
              {name}
            </DropdownMenu.Item>
          ))}
          {known.length > 1 && (
            <>
              <DropdownMenu.Separator className="my-1 border-t border-line" />
              <DropdownMenu.Label className="px-4 py-1 text-sm text-quiet">{words.scope.together}</DropdownMenu.Label>
              {known.map((name) => (
                <DropdownMenu.CheckboxItem
                  key={name}
                  className={styles.item}
                  checked={chosen.includes(name)}
                  onCheckedChange={(isOn) => choose(isOn ? [...chosen, name] : chosen.filter((other) => other !== name))}
                  onSelect={(event) => event.preventDefault()}
                >
                  <span className="w-4">
                    <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
                  </span>
                  {name}
                </DropdownMenu.CheckboxItem>
              ))}
            </>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
