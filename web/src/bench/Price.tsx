import { Tooltip } from "antd";
import type { Knob, Price, PricesView } from "../api/types";
import { duration, percent } from "../app/format";
import { valueText } from "./ValueField";

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

function words(knob: Knob, p: Price, view: PricesView): string {
  const lost = p.grain
    ? `grain of the final ${percent(p.grain[0], 2)} → ${percent(p.grain[1], 2)}`
    : p.look
      ? `light lost: ${p.look.mean.toFixed(2)} of 255 steps on average, ${p.look.most.toFixed(2)} in all but 1 % of the picture, ${p.look.worst.toFixed(1)} at the worst spot`
      : "the denoiser";
  const from = p.from === "measured" ? "measured in" : "extrapolated from";
  const stale =
    view.stale.length > 0 ? ` It is of a picture with other ${view.stale.join(", ")}: test to renew it.` : "";
  const saved =
    p.seconds > -NOTHING
      ? `would save ${duration(Math.max(p.seconds, 0))} of the final`
      : `would lengthen the final by ${duration(-p.seconds)}, for it would take more samples,`;
  return `The step to ${valueText(knob, p.step)} ${saved} and lose: ${lost}. ${from} proof ${view.proof_number}.${stale} Prices do not add up.`;
}

/** Costs and buys of a knob: two small figures. */
export function PriceTag({ knob, view }: { knob: Knob; view: PricesView | null | undefined }) {
  const price = view?.prices.find((p) => p.knob === knob.id);
  if (!view || !price) return null;
  return (
    <Tooltip title={words(knob, price, view)} placement="left">
      <span className={`price${view.stale.length > 0 ? " stale" : ""}`} data-price={knob.id}>
        {Math.abs(price.seconds) < NOTHING
          ? "changes nothing here"
          : price.seconds < 0
            ? `saves ${duration(-price.seconds)}`
            : `costs ${duration(price.seconds)} · buys ${buys(price)}`}
      </span>
    </Tooltip>
  );
}
