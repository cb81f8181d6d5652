/** Parts and lights as they are called on the screen. */
const parts: Record<string, string> = {
  emission: "Seen lamps",
  environment: "Seen environment",
  diffuse_direct: "Diffuse, direct",
  diffuse_bounced: "Diffuse, bounced",
  reflection_direct: "Reflection, direct",
  reflection_bounced: "Reflection, bounced",
  transmission_direct: "Transmission, direct",
  transmission_bounced: "Transmission, bounced",
  volume_direct: "Volume, direct",
  volume_bounced: "Volume, bounced",
  tail: "Tail fill",
};

export const LIGHT = "light ";

export const partName = (name: string): string =>
  parts[name] ?? (name.startsWith(LIGHT) ? name.slice(LIGHT.length) || "nameless" : name);

/** What the stage shows: a layer, and whose it is. */
export interface Pass {
  layer: import("../api/types").Layer;
  part: string;
}

export const picturePass: Pass = { layer: "picture", part: "" };
