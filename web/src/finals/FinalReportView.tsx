import type { CauseKind, FinalView } from "../api/types";
import { count, duration, percent, size, fileKind } from "../app/format";
import { cleanness } from "./verdict";

const sampled: CauseKind[] = ["camera", "direct", "diffuse", "reflection", "transmission", "volume"];

/** Predicted against actual, phase by phase, and what is left. */
export function FinalReportView({ f }: { f: FinalView }) {
  const r = f.report;
  if (!r) return null;
  const told = (...kinds: CauseKind[]) =>
    f.forecast
      ? f.forecast.causes.filter((c) => kinds.includes(c.kind)).reduce((sum, c) => sum + c.seconds, 0)
      : null;
  // What tests and earlier finals had rendered counts as sampling, since the forecast is that of the whole frame.
  const rows: [string, number | null, number][] = [
    ["Start", told("start"), r.start],
    ["Sampling", told(...sampled), r.sampling + r.before],
    ["Clean-up", told("clean_up"), r.denoise],
    ["Files", told("files"), r.writing],
    ["All", f.forecast?.seconds ?? null, r.total + r.before],
  ];
  const last = r.plan.at(-1);
  // A final that its time ended was never to reach what was foretold: that is told as what the threshold would take.
  const ended = f.policy === "time" && !r.to_threshold;
  const compared = ["Start", "Clean-up", "Files"];
  return (
    <section data-testid="final-report">
      <h3>Foretold and actual</h3>
      <table className="report">
        <thead>
          <tr>
            <th />
            <th className="num">{ended ? `to ${percent(f.threshold)}` : "foretold"}</th>
            <th className="num">actual</th>
            <th className="num" />
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, was, is]) => (
            <tr key={name} className={name === "All" ? "total" : ""}>
              <td>{name}</td>
              <td className="num">{was === null ? "–" : duration(was)}</td>
              <td className="num">{duration(is)}</td>
              <td className="num second">
                {was === null || was < 0.5 || (ended && !compared.includes(name))
                  ? ""
                  : `${is >= was ? "+" : "−"}${percent(Math.abs(is / was - 1), 0)}`}
              </td>
            </tr>
          ))}
          {r.before > 0.05 && (
            <>
              <tr>
                <td>There before</td>
                <td />
                <td className="num">−{duration(r.before)}</td>
                <td />
              </tr>
              <tr className="total">
                <td>This final</td>
                <td />
                <td className="num">{duration(r.total)}</td>
                <td />
              </tr>
            </>
          )}
        </tbody>
      </table>
      <p className="second">
        {count(r.render.samples)} samples, {r.render.samples_per_pixel.toFixed(0)} a pixel, on{" "}
        {r.render.threads} threads.{" "}
        {r.reused > 0 && `${count(r.reused)} of them were there from tests and earlier finals. `}
        Noise as it was judged {percent(r.grain, 2)}
        {f.forecast && !ended && ` (foretold ${percent(f.forecast.grain, 2)})`}, worst block{" "}
        {percent(r.worst_block)}
        {f.planned
          ? "; samples as the plan says."
          : `; ${percent(r.render.capped, 0)} of the picture reached the most samples first.`}
        {r.saving > 0.05 && ` Checkpoints took ${duration(r.saving)}.`}
        {r.gaps > 0 &&
          ` There was no time for ${percent(r.gaps, 1)} of the pixels: they show what the nearest rendered pixels show.`}
      </p>
      {r.earlier.length > 0 && (
        <p className="second" data-testid="final-versions">
          Delivered {r.earlier.length + 1} times, each with files of its own:{" "}
          {[...r.earlier, { total: r.total, verdict: r.verdict }]
            .map(
              (v, i) =>
                `${i + 1}. ${duration(v.total)}${v.verdict ? `, ${cleanness[v.verdict.cleanness].toLowerCase()}` : ""}`,
            )
            .join("; ")}
          ; {duration(r.spent)} in all.
        </p>
      )}
      {last && (
        <p className="second" data-testid="final-plan">
          {r.plan.length} decisions: the threshold went from {percent(r.plan[0]!.threshold, 1)} to{" "}
          {percent(last.threshold, 2)}.
        </p>
      )}
      {f.forecast && (
        <p className="second">
          Files foretold {f.forecast.files.map((x) => `${fileKind(x.kind)} ${size(x.bytes)}`).join(", ")}.
        </p>
      )}
    </section>
  );
}
