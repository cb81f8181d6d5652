import type { ProofView, ShotView } from "../api/types";
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

/** What is done to a picture after it was rendered. */
export type Clean = Pick<Look, "denoise" | "blend" | "stray">;

/** Clean-ups that are tried on proofs, by their numbers: they change neither the shot nor its forecast. */
export type Tried = Record<number, Partial<Clean>>;

/** Pictures from elsewhere and references are not cleaned up with the shot. */
export const isAsItIs = (proof: ProofView) => proof.kind === "picture" || proof.kind === "reference";

/** How a proof is looked at: pictures from elsewhere and references as they are, tests as the shot cleans up, unless another
 * clean-up is tried on them. */
export function lookAt(look: Look, proof: ProofView | undefined, tried: Tried): Look {
  if (!proof) return look;
  return { ...look, ...(isAsItIs(proof) ? { denoise: "none", stray: 0 } : {}), ...tried[proof.id] };
}

/** A proof on the stage, with its letter where several are compared. */
export interface Seen {
  letter: string;
  proof: ProofView;
  look: Look;
}

/** How compared proofs are looked at, for an address. */
export const looksQuery = (seen: Pick<Seen, "proof" | "look">[]) =>
  encodeURIComponent(JSON.stringify(Object.fromEntries(seen.map((s) => [s.proof.id, s.look]))));

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
