import type { Region } from "../api/types";

export type Grip = "new" | "move" | "n" | "s" | "e" | "w" | "ne" | "nw" | "se" | "sw";

/** Keeps a region of whole pixels inside the frame, at least 8 pixels wide and high where the frame allows. */
export function fitted(r: Region, frame: [number, number]): Region {
  const width = Math.min(frame[0], Math.max(Math.min(8, frame[0]), Math.round(r.width)));
  const height = Math.min(frame[1], Math.max(Math.min(8, frame[1]), Math.round(r.height)));
  const x = Math.min(frame[0] - width, Math.max(0, Math.round(r.x)));
  const y = Math.min(frame[1] - height, Math.max(0, Math.round(r.y)));
  return { x, y, width, height };
}

/** Kept relative when the frame's size changes. */
export function rescaled(r: Region, from: [number, number], to: [number, number]): Region {
  const [sx, sy] = [to[0] / from[0], to[1] / from[1]];
  return fitted({ x: r.x * sx, y: r.y * sy, width: r.width * sx, height: r.height * sy }, to);
}

/** The handle of a region under a point, in frame pixels; `near` is the reach. */
export function gripAt(r: Region | null, x: number, y: number, near: number): Grip {
  if (!r) return "new";
  const close = (a: number, b: number) => Math.abs(a - b) <= near;
  const [right, bottom] = [r.x + r.width, r.y + r.height];
  const inX = x >= r.x - near && x <= right + near;
  const inY = y >= r.y - near && y <= bottom + near;
  const v = inX && close(y, r.y) ? "n" : inX && close(y, bottom) ? "s" : "";
  const h = inY && close(x, r.x) ? "w" : inY && close(x, right) ? "e" : "";
  if (v || h) return (v + h) as Grip;
  return x > r.x && x < right && y > r.y && y < bottom ? "move" : "new";
}

/** The region after dragging a grip from one point to another. */
export function dragged(
  start: Region | null,
  grip: Grip,
  from: [number, number],
  to: [number, number],
  frame: [number, number],
): Region {
  if (grip === "new" || !start) {
    const [x, y] = [Math.min(from[0], to[0]), Math.min(from[1], to[1])];
    return fitted({ x, y, width: Math.abs(to[0] - from[0]), height: Math.abs(to[1] - from[1]) }, frame);
  }
  const [dx, dy] = [to[0] - from[0], to[1] - from[1]];
  if (grip === "move") return fitted({ ...start, x: start.x + dx, y: start.y + dy }, frame);
  let { x, y, width, height } = start;
  if (grip.includes("w")) [x, width] = [x + dx, width - dx];
  if (grip.includes("e")) width += dx;
  if (grip.includes("n")) [y, height] = [y + dy, height - dy];
  if (grip.includes("s")) height += dy;
  if (width < 0) [x, width] = [x + width, -width];
  if (height < 0) [y, height] = [y + height, -height];
  return fitted({ x, y, width, height }, frame);
}
