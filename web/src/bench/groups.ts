import type { Group } from "../api/types";

/** The sections of the tuning, in the order in which they are shown. */
export const groups: [Group, string][] = [
  ["frame", "Frame"],
  ["sampling", "Sampling"],
  ["paths", "Paths"],
  ["lights", "Lights"],
  ["clean_up", "Clean-up"],
  ["view", "View"],
  ["delivery", "Delivery"],
];
