import type { Layer, ShotView } from "../api/types";

/** How pictures are shown: the shot's own view, denoiser and threshold. Changing it renders nothing. */
export interface Look {
  exposure: number;
  transform: string;
  denoise: string;
  blend: number;
  threshold: number;
}

/** As tests show it: with the values that draft overlays put in force. */
export function lookOf(shot: ShotView): Look {
  const force = Object.fromEntries(shot.in_force.map((f) => [f.id, f.value]));
  const t = { ...shot.tuning, ...force };
  return {
    exposure: Number(t["view.exposure"]),
    transform: String(t["view.transform"]),
    denoise: String(t["cleanup.denoise"]),
    blend: Number(t["cleanup.blend"]),
    threshold: Number(t["sampling.threshold"]),
  };
}

export function lookQuery(look: Look, layer?: Layer): string {
  const q = new URLSearchParams(Object.entries(look).map(([k, v]) => [k, String(v)]));
  if (layer) q.set("layer", layer);
  return q.toString();
}

export function pictureAddress(proof: number | undefined | null, look: Look, layer: Layer): string | null {
  return proof === undefined || proof === null
    ? null
    : `/api/proofs/${proof}/picture?${lookQuery(look, layer)}`;
}
