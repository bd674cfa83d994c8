/** All rows of an answer as a file. */
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { styles } from "../../parts/styles";
import { words } from "../../words";

const said = words.query;

export function Download({ statement, query }: { statement: string; query: string }) {
  const [failed, setFailed] = useState("");
  const fetchAs = async (form: string) => {
    setFailed("");
    const answer = await fetch(`/api/v1/query/file/${form}?${query}`, {
      method: "POST",
      body: JSON.stringify({ statement }),
      headers: { "Content-Type": "application/json" },
    });
    if (!answer.ok) {
      const problem = (await answer.json().catch(() => ({}))) as { detail?: string };
      return setFailed(problem.detail ?? String(answer.status));
    }
    const link = document.createElement("a");
    link.href = URL.createObjectURL(await answer.blob());
    link.download = `query.${form}`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <>
      {failed && (
        <span role="alert" className="self-center text-sm text-trouble">
          {failed}
        </span>
      )}
      <DropdownMenu.Root>
        <DropdownMenu.Trigger className={styles.button}>{said.download}</DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content className={styles.menu} align="end" sideOffset={4}>
            {Object.entries(said.forms).map(([form, name]) => (
              <DropdownMenu.Item key={form} className={styles.item} onSelect={() => void fetchAs(form)}>
                {name}
              </DropdownMenu.Item>
            ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
    </>
  );
}
