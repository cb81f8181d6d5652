export interface Rect {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** The stage cut for pictures side by side: one, two in a row, or up to four in two rows. */
export function panes(count: number, width: number, height: number): Rect[] {
  if (count <= 1) return [{ x: 0, y: 0, width, height }];
  const rows = count > 2 ? 2 : 1;
  const [w, h] = [width / 2, height / rows];
  return Array.from({ length: count }, (_, i) => ({
    x: (i % 2) * w,
    y: Math.floor(i / 2) * h,
    width: w,
    height: h,
  }));
}

/** The parts of the stage that each picture of a wipe has: left and right of x, for more than two also above and below y. */
export function wipeParts(count: number, x: number, y: number, width: number, height: number): Rect[] {
  const [left, right] = [Math.max(0, x), Math.max(0, width - x)];
  if (count <= 2)
    return [
      { x: 0, y: 0, width: left, height },
      { x, y: 0, width: right, height },
    ];
  const [above, below] = [Math.max(0, y), Math.max(0, height - y)];
  const quarters = [
    { x: 0, y: 0, width: left, height: above },
    { x, y: 0, width: right, height: above },
    { x: 0, y, width: count === 3 ? width : left, height: below },
    { x, y, width: right, height: below },
  ];
  return quarters.slice(0, count);
}
