// What prices of knobs say.

import type { Knob, Price, PricesView } from "../api/types";
import { duration, percent } from "../app/format";
import { valueText } from "./values";

/** Seconds of a final that nobody misses. */
const NOTHING = 0.05;

/** What the next coarser step loses, in few words. */
function buys(p: Price): string {
  if (p.grain) {
    const more = p.grain[1] - p.grain[0];
    return more > 5e-6 ? percent(more, more < 0.001 ? 3 : 2) : "nothing";
  }
  if (p.look)
    return p.look.most < 0.005 ? "nothing" : `${p.look.most.toFixed(p.look.most < 1 ? 2 : 1)} steps`;
  return "";
}

/** In how few words a price can be told. */
export function brief(p: Price): string {
  const unsure = p.unsure ?? 0;
  if (Math.abs(p.seconds) < NOTHING && unsure < NOTHING) return "changes nothing here";
  if (unsure >= Math.abs(p.seconds)) return `costs or saves up to ${duration(Math.abs(p.seconds) + unsure)}`;
  const give = unsure < NOTHING ? "" : ` ±\u00a0${duration(unsure)}`;
  if (p.seconds < 0) return `saves ${duration(-p.seconds)}${give}`;
  const bought = buys(p);
  return `costs ${duration(p.seconds)}${give}${bought && ` · buys ${bought}`}`;
}

export function words(knob: Knob, p: Price, view: PricesView): string {
  const lost = p.grain
    ? ` and lose: grain of the final ${percent(p.grain[0], 2)} → ${percent(p.grain[1], 2)}`
    : p.look
      ? ` and lose: light, ${p.look.mean.toFixed(2)} of 255 steps on average, ${p.look.most.toFixed(2)} in all but 1 % of the picture, ${p.look.worst.toFixed(1)} at the worst spot`
      : p.knob === "cleanup.denoise"
        ? " and lose: the denoiser"
        : "";
  const from = p.from === "measured" ? "Measured in" : "Extrapolated from";
  const stale =
    view.stale.length > 0 ? ` It is of a picture with other ${view.stale.join(", ")}: test to renew it.` : "";
  const saved =
    p.seconds > -NOTHING
      ? `would save ${duration(Math.max(p.seconds, 0))} of the final`
      : `would lengthen the final by ${duration(-p.seconds)}, for it would take more samples`;
  const unsure =
    p.unsure === null || p.unsure < NOTHING
      ? ""
      : ` (± ${duration(p.unsure)}: the rays are counted, what their noise asks for is ${p.grain ? "from a short trial" : "not known without a trial; the advice has one"})`;
  return `The step to ${valueText(knob, p.step)} ${saved}${unsure}${lost}. ${from} ${view.by}.${stale} Prices do not add up.`;
}
