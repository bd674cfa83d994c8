/** What is wrong with the configuration, or that nothing is. */
import type { ConfigDiagnostic } from "../../api/client";
import { useCheck } from "../../api/queries";
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

/** Diagnostics with their places; a place can lead to where it is written. */
export function Diagnostics({ findings, go }: { findings: ConfigDiagnostic[]; go?: (finding: ConfigDiagnostic) => void }) {
  return (
    <ul className="mt-2">
      {findings.map((finding, nth) => (
        <li key={nth} className={`mb-3 border-l-4 pl-3 ${finding.severity === "error" ? "border-trouble" : "border-attention"}`}>
          <p>{finding.message}</p>
          <p className="text-sm text-quiet">{finding.reason}</p>
          <p className="font-mono text-sm break-all">
            {go ? (
              <button type="button" className="text-sea hover:underline" onClick={() => go(finding)}>
                {words.configuration.line(finding.line)}
              </button>
            ) : (
              `${finding.file}:${finding.line}`
            )}{" "}
            <span className="text-quiet">{finding.text.trim()}</span>
          </p>
          {finding.remedy && (
            <p className="text-sm">
              {words.sites.instead}: {finding.remedy}
            </p>
          )}
        </li>
      ))}
    </ul>
  );
}
