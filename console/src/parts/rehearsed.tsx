/** What a rehearsal came to: what would be different, for whom and because of what, the gravest first. */
import type { Rehearsed, RehearsalGroup } from "../api/client";
import { bytes, count, percent } from "../figures";
import { words } from "../words";
import { Diagnostics } from "./diagnostics";

const said = words.rehearsal;
/** How many paths are shown of each difference. */
const EXAMPLES = 3;
/** The colour of what is worse for whoever asked, of what is better, and of what is neither; none can be forgotten. */
const TONES: Record<RehearsalGroup["change"], string> = {
  fails: "border-trouble",
  redirect_loop: "border-trouble",
  redirected_to_missing: "border-trouble",
  lost: "border-trouble",
  refused: "border-trouble",
  login_asked: "border-trouble",
  limited: "border-trouble",
  found: "border-well",
  let_in: "border-well",
  works: "border-well",
  unlimited: "border-well",
  direct: "border-well",
  redirected: "border-attention",
  other_content: "border-attention",
  other_status: "border-attention",
  compression: "border-attention",
  caching: "border-attention",
  fields: "border-attention",
};

export function RehearsedView({ rehearsed }: { rehearsed: Rehearsed }) {
  const { outcome } = rehearsed;
  if (!rehearsed.is_sound) {
    return (
      <div data-testid="rehearsed">
        <p className="mt-2 font-semibold text-trouble">{said.unsound}</p>
        <Diagnostics findings={rehearsed.found} />
      </div>
    );
  }
  return (
    <div data-testid="rehearsed">
      <p className={`mt-2 text-xl font-semibold ${rehearsed.is_worse ? "text-trouble" : "text-well"}`} data-testid="rehearsal-verdict">
        {rehearsed.is_worse ? said.worse : outcome.groups.length === 0 ? said.same : said.well}
      </p>
      <p className="text-sm text-quiet">
        {said.ran(count(outcome.requests), count(outcome.distinct), (rehearsed.took_ms / 1000).toFixed(1))}{" "}
        {outcome.alike < outcome.requests && said.alike(percent(outcome.alike, outcome.requests))}
      </p>
      <ul className="mt-3 space-y-4">
        {outcome.groups.map((group, nth) => (
          <Group key={nth} group={group} />
        ))}
      </ul>
      {outcome.unsure.length > 0 && (
        <section className="mt-4" aria-label={said.unsure}>
          <h4 className="font-semibold">{said.unsure}</h4>
          <ul>
            {outcome.unsure.map((unsure) => (
              <li key={unsure.lacking}>
                {said.requests(count(unsure.requests))}: {unsure.lacking} <span className="font-mono text-sm text-quiet">{unsure.example}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {outcome.caveats.map((caveat) => (
        <p key={caveat} className="mt-2 text-sm text-quiet">
          {caveat}
        </p>
      ))}
    </div>
  );
}

function Group({ group }: { group: RehearsalGroup }) {
  const paths = group.examples.length + group.more_paths - EXAMPLES;
  const transfer = Math.abs(group.bytes_before - group.bytes_after) * 100 > Math.max(group.bytes_before, group.bytes_after);
  return (
    <li className={`border-l-4 pl-3 ${TONES[group.change]}`} data-testid={`change-${group.change}`}>
      <p>
        <span className="font-semibold">{said.changes[group.change]}</span>
        {": "}
        {said.requests(count(group.requests))}, {group.people > 0 ? said.people(count(group.people)) : said.programs}
        {group.site && <span className="text-quiet"> · {group.site}</span>}
      </p>
      <p className="text-sm text-quiet">
        {said.because(group.cause.what, group.cause.is_new)}
        {group.cause.file && (
          <span className="font-mono break-all">
            {" "}
            {group.cause.file}
            {group.cause.line ? `:${group.cause.line}` : ""}
          </span>
        )}
      </p>
      {transfer && <p className="text-sm">{said.transfer(bytes(group.bytes_before), bytes(group.bytes_after))}</p>}
      {group.spared > 0 && <p className="text-sm">{said.spared(count(group.spared))}</p>}
      {group.revalidated > 0 && <p className="text-sm">{said.again(count(group.revalidated))}</p>}
      <ul className="mt-1 text-sm">
        {group.examples.slice(0, EXAMPLES).map((example) => (
          <li key={example.path} className="flex gap-3">
            <span className="w-16 shrink-0 text-right text-quiet">{count(example.requests)}</span>
            <span className="font-mono break-all">
              {example.path}
              <span className="text-quiet">
                {": "}
                {example.before} → {example.after}
              </span>
            </span>
          </li>
        ))}
        {paths > 0 && <li className="pl-[4.75rem] text-quiet">{said.others(paths)}</li>}
      </ul>
    </li>
  );
}
