/** What one client did, in order: visits, newest first, and what it asked for again and again. */
import type { ClientTrail } from "../api/client";
import { useTrail } from "../api/queries";
import { bytes, clock, count, duration, moment, rate } from "../figures";
import { QueryView } from "../parts/states";
import { narrowed, useScope } from "../scope";
import { words } from "../words";
import { Panel } from "./panel";

const said = words.trail;
const TONE: Record<string, string> = { "4": "text-attention-text", "5": "text-trouble" };
type Visit = ClientTrail["visits"][number];

export default function TrailPanel({ zone }: { zone: string }) {
  const [scope, change] = useScope();
  const trail = useTrail(scope, zone, scope.trail);
  const filter = `client=${scope.trail}`;
  const action = "text-sm text-sea hover:underline";
  return (
    <Panel title={said.title(scope.trail)} close={() => change({ trail: "" })}>
      <p className="mt-2 flex gap-5">
        <button type="button" className={action} onClick={() => change({ ...narrowed(scope, filter), trail: "" })}>
          {said.only}
        </button>
        <button type="button" className={action} onClick={() => change({ ...narrowed(scope, filter, true), trail: "" })}>
          {said.without}
        </button>
      </p>
      <QueryView query={trail}>{(trail) => <Trail trail={trail} zone={zone} />}</QueryView>
    </Panel>
  );
}

function Trail({ trail, zone }: { trail: ClientTrail; zone: string }) {
  if (trail.requests === 0) return <p className="mt-4 text-quiet">{said.nothing}</p>;
  return (
    <>
      <p className="mt-3">
        {said.figures(count(trail.requests), bytes(trail.bytes), count(trail.errors))}
        {trail.country && ` · ${trail.country}`}
      </p>
      <ul className="mt-1 text-sm text-quiet">
        {trail.agents.slice(0, 3).map((agent) => (
          <li key={agent.agent} className="break-words">
            {agent.name ? `${agent.name}: ` : ""}
            {agent.agent}
          </li>
        ))}
      </ul>
      {trail.repeats.length > 0 && (
        <section className="mt-4">
          <h3 className="border-b border-line pb-1 font-semibold text-attention-text">{said.repeats}</h3>
          <ul>
            {trail.repeats.slice(0, 5).map((repeat) => (
              <li key={repeat.request} className="flex gap-3 border-b border-line py-1">
                <span className="min-w-0 font-mono text-sm break-all">{repeat.request}</span>
                <span className="ml-auto shrink-0 text-sm text-quiet">
                  {said.times(count(repeat.requests))}
                  {repeat.per_minute != null && `, ${said.perMinute(rate(repeat.per_minute))}`}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {[...trail.visits].reverse().map((visit) => (
        <VisitSteps key={visit.first} visit={visit} zone={zone} />
      ))}
      {(trail.earlier_visits ?? 0) > 0 && <p className="mt-3 text-sm text-quiet">{said.earlier(count(trail.earlier_visits ?? 0))}</p>}
    </>
  );
}

function VisitSteps({ visit, zone }: { visit: Visit; zone: string }) {
  const first = Date.parse(visit.first);
  return (
    <section className="mt-5">
      <h3 className="flex flex-wrap items-baseline gap-x-3 border-b border-line pb-1">
        <span className="font-semibold">{moment(first, zone)}</span>
        <span className="text-sm text-quiet">
          {said.visit(count(visit.pages), count(visit.requests))}, {duration((Date.parse(visit.last) - first) / 1000)}
        </span>
      </h3>
      <ol>
        {visit.steps.map((step, place) => (
          <li key={`${step.time}-${place}`} className="grid grid-cols-[4.5rem_2.5rem_1fr] gap-x-2 border-b border-line py-0.5 text-sm">
            <span className="text-quiet">{clock(Date.parse(step.time), zone, true)}</span>
            <span className={`font-semibold ${TONE[String(step.status)[0] ?? ""] ?? "text-quiet"}`}>{step.status}</span>
            <span className="min-w-0">
              <span className="font-mono break-all">
                {step.method} {step.target}
              </span>
              {step.count > 1 && (
                <span className="ml-2 text-attention-text">
                  {said.times(count(step.count))}
                  {step.per_minute != null && `, ${said.perMinute(rate(step.per_minute))}`}
                </span>
              )}
              {step.referrer && (
                <span className="block truncate text-quiet" title={step.referrer}>
                  {said.came} {step.referrer}
                </span>
              )}
            </span>
          </li>
        ))}
      </ol>
      {(visit.further_steps ?? 0) > 0 && <p className="text-sm text-quiet">{said.further(count(visit.further_steps ?? 0))}</p>}
    </section>
  );
}
