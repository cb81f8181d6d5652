// How clean a delivered picture is, in words.
import type { Cleanness, Region, Verdict, Way } from "../api/types";
import { count, percent, spoken } from "../app/format";

export const cleanness: Record<Cleanness, string> = {
  clean: "Clean",
  nearly: "Nearly clean",
  noisy: "Noisy",
};

/** Noise as steps of 255. */
const steps = (noise: number) => (255 * noise).toFixed(1);

export function verdictHelp(v: Verdict): string {
  const larger =
    v.limit * 255 > 1.05 * v.aim ? `, which is ${steps(v.limit)} in each pixel of a frame of this size` : "";
  return `The worst block has a noise of ${steps(v.worst)} steps of 255 as delivered; the shot allows ${v.aim}${larger}.`;
}

/** Where in a frame a region lies, by thirds. */
export function whereabouts(r: Region, [w, h]: [number, number]): string {
  const third = (x: number, side: number, words: string[]) => words[Math.min(2, Math.floor((3 * x) / side))]!;
  const across = third(r.x + r.width / 2, w, ["left", "", "right"]);
  const down = third(r.y + r.height / 2, h, ["top", "", "bottom"]);
  return [down, across].filter(Boolean).join(" ") || "middle";
}

/** What would make it cleaner, in words. */
export function wayText(w: Way): string {
  switch (w.way) {
    case "top_up":
      return `top up ${w.region.width} × ${w.region.height} px there to ${percent(w.threshold, 2)}: about ${spoken(w.seconds)}`;
    case "denoise":
      return `order it with the quick denoiser: about ${spoken(w.seconds)}, for its samples are used again`;
    case "fireflies":
      return `single bright pixels make ${count(w.blocks)} of the blocks noisy: order it with Stray pixels above 0, for its samples are used again`;
  }
}
