import type { ShotView } from "../api/types";
import { picturePass, type Pass } from "../causes/names";

/** How pictures are shown: the shot's own view, denoiser and threshold. Changing it renders nothing. */
export interface Look {
  exposure: number;
  transform: string;
  table: number;
  denoise: string;
  blend: number;
  diffuse: boolean;
  specular: boolean;
  rest: boolean;
  stray: number;
  /** Flat areas that are none, and others that are, as the API takes them. */
  struck: string;
  pointed: string;
  threshold: number;
}

/** The same without any clean-up. */
export const asNoisy = (look: Look): Look => ({ ...look, denoise: "none", stray: 0 });

/** As tests show it: with the values that draft overlays put in force. */
export function lookOf(shot: ShotView, hints: Pick<Look, "struck" | "pointed">): Look {
  const force = Object.fromEntries(shot.in_force.map((f) => [f.id, f.value]));
  const t = { ...shot.tuning, ...force };
  return {
    exposure: Number(t["view.exposure"]),
    transform: String(t["view.transform"]),
    table: Number(t["view.table"]),
    denoise: String(t["cleanup.denoise"]),
    blend: Number(t["cleanup.blend"]),
    diffuse: t["cleanup.diffuse"] === true,
    specular: t["cleanup.specular"] === true,
    rest: t["cleanup.rest"] === true,
    stray: Number(t["cleanup.stray"]),
    ...hints,
    threshold: shot.threshold,
  };
}

export function lookQuery(look: Look, pass?: Pass): string {
  const q = new URLSearchParams(Object.entries(look).map(([k, v]) => [k, String(v)]));
  if (pass) q.set("layer", pass.layer);
  if (pass?.part) q.set("part", pass.part);
  return q.toString();
}

export function pictureAddress(
  proof: number | undefined | null,
  look: Look,
  pass: Pass = picturePass,
): string | null {
  return proof === undefined || proof === null
    ? null
    : `/api/proofs/${proof}/picture?${lookQuery(look, pass)}`;
}
