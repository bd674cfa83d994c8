/** What people set for themselves, and signing out. */
import type { Me } from "../../api/client";
import { CHOICES, prefer, usePreferences, type Preferences } from "../../preferences";
import { words } from "../../words";
import { styles } from "../styles";

const said = words.settings;
const ROWS: { key: keyof Preferences; title: string; name: (value: string) => string }[] = [
  { key: "rows", title: said.rows, name: (value) => value },
  { key: "show", title: said.show, name: (value) => said.shows[value] ?? value },
  { key: "theme", title: said.theme, name: (value) => said.themes[value] ?? value },
  { key: "dates", title: said.dates, name: (value) => said.datesAs[value] ?? value },
  { key: "clock", title: said.clock, name: (value) => said.clocks[value] ?? value },
];

export default function Settings({ me, signOut }: { me?: Me; signOut: () => void }) {
  const current = usePreferences();
  return (
    <>
      {me && <p className="mb-2">{said.signedInAs(me.name, me.role)}</p>}
      <div className="space-y-2">
        {ROWS.map(({ key, title, name }) => (
          <label key={key} className="flex items-center justify-between gap-4">
            <span className="text-quiet">{title}</span>
            <select
              className={`${styles.field} w-44`}
              value={String(current[key])}
              onChange={(event) => {
                const value = CHOICES[key].find((choice) => String(choice) === event.target.value);
                if (value !== undefined) prefer({ [key]: value });
              }}
            >
              {CHOICES[key].map((choice) => (
                <option key={String(choice)} value={String(choice)}>
                  {name(String(choice))}
                </option>
              ))}
            </select>
          </label>
        ))}
      </div>
      <p className="mt-2 text-sm text-quiet">{said.about}</p>
      <button type="button" className={`${styles.button} mt-3 w-full`} onClick={signOut}>
        {words.signOut}
      </button>
    </>
  );
}
