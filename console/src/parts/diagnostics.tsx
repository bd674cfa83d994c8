/** What is wrong with a configuration, or worth knowing, with where it is written. */
import type { ConfigDiagnostic } from "../api/client";
import { words } from "../words";

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
