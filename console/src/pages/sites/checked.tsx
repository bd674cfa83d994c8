/** What is wrong with the configuration, or that nothing is. */
import { useCheck } from "../../api/queries";
import { Diagnostics } from "../../parts/diagnostics";
import { words } from "../../words";

export function Checked() {
  const check = useCheck();
  if (!check.data) return null;
  const errors = check.data.filter((finding) => finding.severity === "error").length;
  if (check.data.length === 0) return <p className="mt-6 text-well">{words.sites.well}</p>;
  return (
    <details className="mt-6" data-testid="check">
      <summary className={`cursor-pointer ${errors ? "text-trouble" : "text-attention-text"} font-semibold`}>
        {words.sites.found(errors, check.data.length - errors)}
      </summary>
      <Diagnostics findings={check.data} />
    </details>
  );
}
