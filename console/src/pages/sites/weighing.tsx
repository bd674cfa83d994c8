/** What compression makes of a site's files, and which settings follow: it takes a while, so it is asked for. */
import { useState } from "react";
import type { WeighedCurve, WeighedSite } from "../../api/client";
import { useWeighing } from "../../api/queries";
import { bytes, count } from "../../figures";
import { styles } from "../../parts/styles";
import { Wide } from "../../parts/wide";
import { words } from "../../words";

const said = words.sites;

export function Weighing({ site }: { site: string }) {
  const [isAsked, setAsked] = useState(false);
  const weighing = useWeighing(site, isAsked);
  return (
    <section aria-label={said.weighing} data-testid="weighing">
      <h3 className="font-semibold">{said.weighing}</h3>
      {!isAsked && (
        <button type="button" className={`${styles.button} mt-2`} onClick={() => setAsked(true)}>
          {said.weigh}
        </button>
      )}
      {isAsked && weighing.isPending && (
        <p role="status" className="mt-2 text-quiet">
          {said.weighingNow}
        </p>
      )}
      {weighing.isError && <p className="mt-2 text-trouble">{weighing.error.message}</p>}
      {weighing.data && <Weighed weighed={weighing.data} />}
    </section>
  );
}

function Weighed({ weighed }: { weighed: WeighedSite }) {
  const types = Object.entries(weighed.types).sort(([, one], [, other]) => other.bytes - one.bytes);
  return (
    <>
      <p className="mt-2 text-sm text-quiet">
        {said.weighed(count(weighed.files), bytes(weighed.bytes), bytes(weighed.sampled_bytes), weighed.seconds.toFixed(1))}
      </p>
      <Wide name={said.weighing}>
        <table className="mt-2 w-full min-w-[36rem] text-[0.95rem]">
          <Headings names={[said.codec, said.quickly, said.pays, said.thoroughly]} />
          <tbody>
            {weighed.curves.map((curve) => (
              <tr key={curve.codec} className="border-b border-line align-top" data-testid={`codec-${curve.codec}`}>
                <th scope="row" className="py-1.5 pr-4 text-left font-mono text-sm font-normal">
                  {curve.codec}
                </th>
                {[curve.points[0], curve.points.find((point) => point.knee), curve.points.at(-1)].map((point, place) => (
                  <td key={place} className={`py-1.5 pr-4 ${place === 1 ? "font-semibold" : ""}`}>
                    {point && (
                      <>
                        {said.remains((point.ratio * 100).toFixed(1), time(point.seconds))}
                        <span className="block text-sm font-normal text-quiet">{said.effort(point.effort)}</span>
                      </>
                    )}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <Wide name={said.mediaType}>
        <table className="mt-6 w-full min-w-[36rem] text-[0.95rem]">
          <Headings names={[said.mediaType, said.bytesBefore, said.smallest]} />
          <tbody>
            {types.map(([type, of]) => (
              <tr key={type} className="border-b border-line">
                <th scope="row" className="py-1 pr-4 text-left font-mono text-sm font-normal">
                  {type}
                </th>
                <td className="py-1 pr-4">{bytes(of.bytes)}</td>
                <td className={`py-1 ${of.worthwhile ? "" : "text-quiet"}`}>{of.worthwhile ? smallest(of.curves) : said.notSmaller}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <h4 className="mt-6 font-semibold">{said.suits}</h4>
      <ul className="mt-1 text-sm text-quiet">
        {weighed.recommended.reasons.map((reason) => (
          <li key={reason}>{reason}</li>
        ))}
      </ul>
      <pre className="mt-2 overflow-x-auto border-l-4 border-sea bg-sheet p-3 font-mono text-sm" tabIndex={0} aria-label={said.suits}>
        {weighed.settings}
      </pre>
    </>
  );
}

function Headings({ names }: { names: string[] }) {
  return (
    <thead>
      <tr className="border-b border-line text-left text-sm text-quiet">
        {names.map((name) => (
          <th key={name} scope="col" className="py-1 pr-4 font-normal">
            {name}
          </th>
        ))}
      </tr>
    </thead>
  );
}

/** The codec and effort that leave the least. */
function smallest(curves: WeighedCurve[]): string {
  const all = curves.flatMap((curve) => curve.points.map((point) => ({ codec: curve.codec, ...point })));
  const least = all.reduce((one, other) => (other.ratio < one.ratio ? other : one));
  return `${least.codec} ${least.effort}: ${(least.ratio * 100).toFixed(0)} %`;
}

/** A thread's time. */
function time(seconds: number): string {
  return seconds < 1 ? `${(seconds * 1000).toFixed(seconds < 0.1 ? 1 : 0)} ms` : `${seconds.toFixed(1)} s`;
}
