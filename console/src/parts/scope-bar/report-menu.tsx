/** The scope as a file: a report for a browser, or for programs; with addresses cut where it goes to somebody else. */
import { useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import type { Survey } from "../../api/client";
import { parametersOf, type Scope } from "../../scope";
import { todayIn } from "../../scope/period";
import { words } from "../../words";
import { styles } from "../styles";

export function ReportMenu({ scope, zone }: { scope: Scope; zone: string }) {
  const [isMasked, setMasked] = useState(true);
  const lists = useLists();
  const address = (form: string) => {
    const query = parametersOf(scope, todayIn(zone));
    if (scope.against) query.set("against", scope.against);
    if (isMasked) query.set("mask", "true");
    return `/api/v1/report/${form}?${query}`;
  };
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className={`${styles.button} flex items-center gap-2`}>
        {words.download.title}
        <span aria-hidden="true" className="text-quiet">
          ▾
        </span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className={`${styles.menu} max-w-72`} sideOffset={4} align="end">
          <DropdownMenu.CheckboxItem className={styles.item} checked={isMasked} onCheckedChange={setMasked} onSelect={(event) => event.preventDefault()}>
            <span className="w-4">
              <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
            </span>
            {words.download.mask}
          </DropdownMenu.CheckboxItem>
          <DropdownMenu.Separator className="my-1 border-t border-line" />
          {(["html", "json"] as const).map((form) => (
            <DropdownMenu.Item key={form} className={styles.item} asChild>
              <a href={address(form)} download>
                <span className="w-4" />
                {words.download[form]}
              </a>
            </DropdownMenu.Item>
          ))}
          <DropdownMenu.Sub>
            <DropdownMenu.SubTrigger className={`${styles.item} justify-between`} disabled={lists.length === 0}>
              <span className="pl-6">{words.download.csv}</span>
              <span aria-hidden="true">›</span>
            </DropdownMenu.SubTrigger>
            <DropdownMenu.Portal>
              <DropdownMenu.SubContent className={styles.menu}>
                {lists.map((table) => (
                  <DropdownMenu.Item key={table.name} className={styles.item} asChild>
                    <a href={`${address("csv")}&show=${table.name}`} download>
                      {table.title}
                    </a>
                  </DropdownMenu.Item>
                ))}
              </DropdownMenu.SubContent>
            </DropdownMenu.Portal>
          </DropdownMenu.Sub>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** The lists that are on the page: those that were counted last. */
function useLists() {
  const queries = useQueryClient()
    .getQueryCache()
    .findAll({ queryKey: ["survey"], type: "active" });
  const surveys = queries.map((query) => query.state.data as Survey | undefined);
  const lists = surveys.flatMap((survey) => Object.values(survey?.tables ?? {})).filter((table) => table.rows.length > 0);
  return [...new Map(lists.map((table) => [table.name, table])).values()];
}
