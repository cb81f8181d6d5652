import type { Knob, ProofView } from "../api/types";
import { percent } from "../app/format";

export type Value = number | boolean | string;

export const pretty: Record<string, string> = {
  gaussian: "Gaussian",
  blackman_harris: "Blackman–Harris",
  mitchell_netravali: "Mitchell–Netravali",
  lanczos: "Lanczos",
  srgb: "sRGB",
  shoulder: "soft shoulder",
  quick: "quick guided",
  colour: "colour only",
};

/** A knob's value in words. */
export function valueText(knob: Knob | undefined, v: unknown): string {
  if (v === null || v === undefined) return "unknown";
  if (typeof v === "boolean") return v ? "on" : "off";
  if (typeof v === "number" && knob?.unit === "share") return percent(v, v < 0.1 ? 2 : 0);
  return pretty[String(v)] ?? String(v);
}

/**
 * A knob's value in a proof, which tells only what differs from the defaults; unknown for pictures from elsewhere and for what
 * cannot be read.
 */
export const valueIn = (proof: ProofView | undefined, knob: Knob): Value | undefined =>
  proof && proof.camera !== null ? ((proof.tuning[knob.id] ?? knob.default) as Value) : undefined;
