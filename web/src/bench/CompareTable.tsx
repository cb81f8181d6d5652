import { useComparison } from "../api/queries";
import type { Column, Knob, ProofView } from "../api/types";
import { duration, percent } from "../app/format";
import { looksQuery, type Look, type Seen } from "./look";
import { proofTitle } from "./ProofSheet";
import { valueText } from "./values";

interface Props {
  sides: Seen[];
  reference: ProofView | undefined;
  /** How the reference is looked at. */
  referenceLook: Look;
  knobs: Knob[];
}

const times = (r: number | null) => (r === null ? null : `${r.toFixed(r < 10 ? 2 : 0)} ×`);

/** Only what differs: knobs, time, grain, rays, and the error against the reference or against A. */
export function CompareTable({ sides, reference, referenceLook, knobs }: Props) {
  const ids = sides.map((s) => s.proof.id);
  const state = sides.map((s) => `${s.proof.state}${s.proof.report?.samples ?? ""}`).join();
  const seen = reference ? [{ proof: reference, look: referenceLook }, ...sides] : sides;
  const comparison = useComparison(ids, reference?.id ?? null, looksQuery(seen), state);
  const c = comparison.data;
  const of = (id: string) => knobs.find((k) => k.id === id);
  if (!c || c.columns.length !== sides.length)
    return (
      <section className="against" data-testid="against">
        <p className={comparison.error ? "over" : "second"}>
          {comparison.error ? comparison.error.message : "measuring …"}
        </p>
      </section>
    );
  const figure = (label: string, text: (k: Column) => string | null, id?: string) =>
    c.columns.some((k) => text(k) !== null) && (
      <tr>
        <td>{label}</td>
        {c.columns.map((k) => (
          <td key={k.proof} className="num" data-testid={id}>
            {text(k) ?? "–"}
          </td>
        ))}
      </tr>
    );
  /** A ratio to A says nothing about A itself. */
  const toA = (k: Column, ratio: number | null) => (k === c.columns[0] ? null : times(ratio));
  const measured = reference ? `against reference ${reference.number}` : "against A";
  const words = c.columns.map((k, i) => [sides[i]!.letter, k] as const).filter(([, k]) => k.against);
  const notes = [
    ...new Set(c.columns.flatMap((k, i) => k.notes.map((n) => `${sides[i]!.letter || "shown"}: ${n}`))),
  ];
  return (
    <section className="against" data-testid="against">
      <table>
        <thead>
          <tr>
            <th />
            {sides.map((s) => (
              <th key={s.proof.id} className="num" title={`proof ${proofTitle(s.proof)}`}>
                {`${s.letter} ${s.proof.number}`}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {c.rows.map((d) => (
            <tr key={d.id} className="differs">
              <td>{d.label}</td>
              {d.values.map((v, i) => (
                <td key={i} className="num">
                  {valueText(of(d.id), v)}
                </td>
              ))}
            </tr>
          ))}
          {c.rows.length === 0 && sides.length > 1 && (
            <tr>
              <td colSpan={sides.length + 1} className="second">
                the same tuning
              </td>
            </tr>
          )}
          {figure("Time", (k) => (k.seconds === null ? null : duration(k.seconds)))}
          {figure("faster than A", (k) => toA(k, k.time_ratio), "time-ratio")}
          {figure("Grain", (k) => (k.grain === null ? null : percent(k.grain, 2)))}
          {figure("cleaner than A", (k) => toA(k, k.grain_ratio))}
          {figure("Samples a pixel", (k) => k.samples_per_pixel?.toFixed(1) ?? null)}
          {figure("Rays, million", (k) => (k.rays === null ? null : (k.rays / 1e6).toFixed(1)))}
          {c.columns.some((k) => k.metrics) && (
            <tr>
              <td colSpan={sides.length + 1} className="second">
                {measured}
              </td>
            </tr>
          )}
          {figure("RMSE", (k) => k.metrics?.rmse.toPrecision(2) ?? null)}
          {figure("relative MSE", (k) => k.metrics?.relative_mse.toPrecision(2) ?? null)}
          {figure("PSNR, dB", (k) => (k.metrics ? (k.metrics.psnr?.toFixed(1) ?? "∞") : null))}
          {figure("SSIM", (k) => k.metrics?.ssim?.toFixed(3) ?? null)}
          {figure("FLIP", (k) => k.metrics?.flip.toFixed(3) ?? null)}
          {figure("Grain part of it", (k) => k.against?.grain.toPrecision(2) ?? null)}
          {figure("Look part of it", (k) => k.against?.look.toPrecision(2) ?? null, "look-part")}
        </tbody>
      </table>
      {words.map(([letter, k]) => (
        <p key={k.proof} data-testid="look-words">
          {`${letter || "Shown"}: ${k.against!.words}; ${percent(k.against!.look_share, 0)} of the error is a change of the look, which samples do not remove.`}
        </p>
      ))}
      {notes.map((n) => (
        <p key={n} className="second">
          {n}
        </p>
      ))}
    </section>
  );
}
