import { Tooltip } from "antd";
import type { Knob, PricesView } from "../api/types";
import { brief, words } from "./prices";

/** Costs and buys of a knob: two small figures. */
export function PriceTag({ knob, view }: { knob: Knob; view: PricesView | null | undefined }) {
  const price = view?.prices.find((p) => p.knob === knob.id);
  if (!view || !price) return null;
  return (
    <Tooltip title={words(knob, price, view)} placement="left">
      <span className={`price${view.stale.length > 0 ? " stale" : ""}`} data-price={knob.id}>
        {brief(price)}
      </span>
    </Tooltip>
  );
}
