/** A request that somebody describes: its facts, how it is decided, and the answer. */
import { useEffect, useState, type FormEvent } from "react";
import type { Explanation, TracedStep } from "../../api/client";
import { useNewTrial, useTrial, useTry } from "../../api/queries";
import { styles } from "../../parts/styles";
import { words } from "../../words";

export function TryRequest({ address }: { address: string }) {
  const [url, setUrl] = useState(address);
  const [method, setMethod] = useState("GET");
  const [client, setClient] = useState("");
  const [headers, setHeaders] = useState("");
  const trying = useTry();
  useEffect(() => setUrl(address), [address]);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    trying.mutate({ url, method, client, headers: headers.split("\n") });
  };
  return (
    <section aria-label={words.sites.try} className="rounded-lg border border-line bg-sheet p-5">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-2xl font-semibold">{words.sites.try}</h1>
        <p className="text-sm text-quiet">{words.sites.tryAbout}</p>
      </div>
      <form onSubmit={submit} className="mt-3 flex flex-wrap items-end gap-3">
        <label className="text-sm text-quiet">
          {words.sites.method}
          <input className={`${styles.field} block w-24 font-mono text-ink`} value={method} onChange={(event) => setMethod(event.target.value)} list="methods" />
        </label>
        <datalist id="methods">
          {["GET", "HEAD", "OPTIONS", "POST"].map((name) => (
            <option key={name} value={name} />
          ))}
        </datalist>
        <label className="min-w-64 grow text-sm text-quiet">
          {words.sites.address}
          <input
            className={`${styles.field} block w-full font-mono text-ink`}
            value={url}
            onChange={(event) => setUrl(event.target.value)}
            aria-label={words.sites.address}
            spellCheck={false}
          />
        </label>
        <button type="submit" className={styles.strong} disabled={trying.isPending}>
          {trying.isPending ? words.sites.trying : words.sites.go}
        </button>
        <details className="w-full text-sm">
          <summary className="cursor-pointer text-quiet hover:text-ink">{words.sites.more}</summary>
          <div className="mt-2 flex flex-wrap gap-3">
            <label className="text-quiet">
              {words.sites.client}
              <input
                className={`${styles.field} block w-56 font-mono text-ink`}
                value={client}
                onChange={(event) => setClient(event.target.value)}
                placeholder="203.0.113.7"
              />
            </label>
            <label className="min-w-72 grow text-quiet">
              {words.sites.headers}
              <textarea
                className="block w-full rounded-md border border-line bg-sheet px-3 py-1 font-mono text-ink hover:border-sea"
                rows={3}
                value={headers}
                onChange={(event) => setHeaders(event.target.value)}
                placeholder={"User-Agent: LindryKiosk/1.2\nCookie: tongue=fo"}
                spellCheck={false}
              />
            </label>
          </div>
        </details>
      </form>
      {trying.isError && (
        <p role="alert" className="mt-3 border-l-4 border-trouble pl-3">
          {trying.error.message}
        </p>
      )}
      <RealRequest url={url} again={setUrl} />
      {trying.data && <Answered explanation={trying.data} again={setUrl} />}
    </section>
  );
}

/** The next request of somebody's own browser: an address to be opened once, and what came by it. */
function RealRequest({ url, again }: { url: string; again: (url: string) => void }) {
  const making = useNewTrial();
  const trial = useTrial(making.data?.id);
  const said = words.sites;
  return (
    <div className="mt-3">
      <button type="button" className={styles.quiet} disabled={making.isPending || url === ""} onClick={() => making.mutate(url)} title={said.realAbout}>
        {said.real}
      </button>
      {making.isError && <p role="alert">{making.error.message}</p>}
      {making.data && !trial.data?.explanation && (
        <div className="mt-2 border-l-4 border-sea pl-3" data-testid="trial">
          <p>{said.openThis}</p>
          <a
            href={making.data.address}
            target="_blank"
            rel="noreferrer"
            className="font-mono text-sm break-all text-sea hover:underline"
            data-testid="trial-address"
          >
            {making.data.address}
          </a>
          <p className="text-quiet" role="status">
            {trial.isError ? trial.error.message : said.waiting}
          </p>
        </div>
      )}
      {trial.data?.explanation && (
        <div data-testid="came">
          <p className="mt-3 font-semibold">{said.came(trial.data.explanation.request.client)}</p>
          <Answered explanation={trial.data.explanation} again={again} />
        </div>
      )}
    </div>
  );
}

const TONES = ["text-quiet", "text-quiet", "text-well", "text-sea", "text-attention-text", "text-trouble"];

function Answered({ explanation, again }: { explanation: Explanation; again: (url: string) => void }) {
  const { answer, request } = explanation;
  const location = answer.headers.find(([name]) => name === "location")?.[1];
  const target = location?.startsWith("/") ? `${request.scheme}://${request.authority}${location}` : location;
  return (
    <div className="mt-5 grid gap-x-10 gap-y-5 lg:grid-cols-[1fr_24rem]" data-testid="answered" aria-live="polite">
      <div className="min-w-0">
        <p className={`text-3xl font-semibold ${TONES[Math.floor(answer.status / 100)] ?? ""}`}>
          <span data-testid="status">{answer.status}</span> {answer.reason}
        </p>
        {target && (
          <button type="button" className="mt-1 font-mono text-sm break-all text-sea hover:underline" onClick={() => again(target)}>
            → {target}
          </button>
        )}
        <h2 className="mt-4 border-b border-line pb-1 font-semibold">{words.sites.steps}</h2>
        <Steps steps={explanation.steps} />
        {explanation.codecs.length > 0 && (
          <ul className="mt-1">
            {explanation.codecs.map((codec) => (
              <li key={codec.codec} className="grid grid-cols-[5.5rem_1fr] gap-2 border-b border-line py-1">
                <span className={codec.used ? "font-semibold text-well" : "text-quiet"}>{codec.codec}</span>
                <span className={codec.used ? "" : "text-quiet"}>{codec.why}</span>
              </li>
            ))}
          </ul>
        )}
      </div>
      <div className="min-w-0">
        <h2 className="border-b border-line pb-1 font-semibold">{words.sites.answer}</h2>
        <dl className="text-sm">
          {answer.headers.map(([name, value], place) => (
            <Pair key={`${name}${place}`} name={name} value={value} />
          ))}
        </dl>
        <p className="pt-1 text-sm break-all text-quiet">
          {answer.bytes == null ? words.sites.unknownLength : words.sites.bytes(answer.bytes.toLocaleString("en"))}
          {answer.file && ` · ${answer.file}`}
        </p>
        <h2 className="mt-4 border-b border-line pb-1 font-semibold">{words.sites.facts}</h2>
        <dl className="text-sm">
          {explanation.facts
            .filter((fact) => fact.value != null)
            .map((fact) => (
              <Pair key={fact.name} name={fact.name} value={fact.value ?? ""} />
            ))}
        </dl>
        <p className="pt-1 text-sm text-quiet">
          {words.sites.none}:{" "}
          {explanation.facts
            .filter((fact) => fact.value == null)
            .map((fact) => fact.name)
            .join(", ")}
        </p>
      </div>
    </div>
  );
}

function Pair({ name, value }: { name: string; value: string }) {
  return (
    <div className="grid grid-cols-[9.5rem_1fr] gap-2 border-b border-line py-0.5">
      <dt className="truncate text-quiet" title={name}>
        {name}
      </dt>
      <dd className="font-mono text-[0.8rem] break-all">{value}</dd>
    </div>
  );
}

/** Rules about other paths are only counted. */
function Steps({ steps }: { steps: TracedStep[] }) {
  const isElsewhere = (step: TracedStep) => step.in_vain && step.words.includes(" does not fit: it is about ");
  const shown = steps.filter((step) => step.about !== "form" && !isElsewhere(step));
  const elsewhere = steps.filter(isElsewhere).length;
  return (
    <ol>
      {shown.map((step, place) => (
        <li key={place} className={`grid grid-cols-[5.5rem_1fr] gap-2 border-b border-line py-1 ${step.in_vain ? "text-quiet" : ""}`}>
          <span className="text-quiet">{step.about}</span>
          <span className="break-words">
            {step.words}
            {step.file && (
              <span className="ml-2 font-mono text-xs text-quiet" title={step.file}>
                {step.file.split("/").slice(-2).join("/")}:{step.line}
              </span>
            )}
          </span>
        </li>
      ))}
      {elsewhere > 0 && <li className="py-1 text-quiet">{words.sites.otherPaths(elsewhere)}</li>}
    </ol>
  );
}
