import { describe, expect, it } from "vitest";
import type { Region } from "../src/api/types";
import { panes, wipeParts, type Rect } from "../src/bench/panes";
import { onFrame } from "../src/bench/onFrame";
import { dragged, fitted, gripAt, rescaled, type Grip } from "../src/bench/region";

const frame: [number, number] = [720, 450];
const start: Region = { x: 100, y: 80, width: 200, height: 120 };
const right = (r: Rect) => r.x + r.width;
const bottom = (r: Rect) => r.y + r.height;

describe("a region", () => {
  it("stays inside the frame, in whole pixels, and can be seen", () => {
    const grips: Grip[] = ["new", "move", "n", "s", "e", "w", "ne", "nw", "se", "sw"];
    for (const grip of grips)
      for (let k = 0; k < 200; k++) {
        const to: [number, number] = [((k * 137) % 1500) - 400.3, ((k * 211) % 1100) - 300.7];
        const r = dragged(start, grip, [150, 120], to, frame);
        const whole = [r.x, r.y, r.width, r.height].every(Number.isInteger);
        expect(whole && r.x >= 0 && r.y >= 0 && right(r) <= 720 && bottom(r) <= 450, `${grip} ${to}`).toBe(
          true,
        );
        expect(Math.min(r.width, r.height)).toBeGreaterThanOrEqual(8);
      }
  });

  it("keeps the sides that are not dragged", () => {
    const by = (grip: Grip) => dragged(start, grip, [0, 0], [17, -9], frame);
    expect(by("move")).toEqual({ x: 117, y: 71, width: 200, height: 120 });
    expect(by("se")).toEqual({ x: 100, y: 80, width: 217, height: 111 });
    expect(by("nw")).toEqual({ x: 117, y: 71, width: 183, height: 129 });
    expect(by("n")).toEqual({ x: 100, y: 71, width: 200, height: 129 });
    // What its handle is dragged past stays, on the other side.
    expect(dragged(start, "e", [300, 140], [40, 140], frame)).toEqual({
      x: 40,
      y: 80,
      width: 60,
      height: 120,
    });
    expect(dragged(start, "s", [200, 200], [200, 20], frame)).toEqual({
      x: 100,
      y: 20,
      width: 200,
      height: 60,
    });
  });

  it("is drawn from corner to corner, whichever comes first", () => {
    const corners: [number, number][] = [
      [50, 60],
      [250, 60],
      [50, 160],
      [250, 160],
    ];
    for (const [i, from] of corners.entries())
      expect(dragged(null, "new", from, corners[3 - i]!, frame)).toEqual({
        x: 50,
        y: 60,
        width: 200,
        height: 100,
      });
  });

  it("is held where the pointer is", () => {
    const points: [Grip, number, number][] = [
      ["nw", 101, 79],
      ["ne", 299, 82],
      ["sw", 98, 203],
      ["se", 302, 198],
      ["n", 200, 83],
      ["s", 200, 197],
      ["w", 103, 140],
      ["e", 297, 140],
      ["move", 200, 140],
      ["new", 330, 140],
      ["new", 200, 210],
    ];
    for (const [grip, x, y] of points) expect(gripAt(start, x, y, 4), `${x} ${y}`).toBe(grip);
    expect(gripAt(null, 200, 140, 4)).toBe("new");
  });

  it("keeps its place when the frame's size changes, and comes back", () => {
    const large = rescaled(start, frame, [1440, 900]);
    expect(large).toEqual({ x: 200, y: 160, width: 400, height: 240 });
    expect(rescaled(large, [1440, 900], frame)).toEqual(start);
    // As large as it can be in a frame of less than its least size.
    expect(fitted(start, [6, 300])).toEqual({ x: 0, y: 80, width: 6, height: 120 });
  });
});

describe("pictures side by side", () => {
  const area = (r: Rect) => r.width * r.height;
  const apart = (a: Rect, b: Rect) =>
    right(a) <= b.x || right(b) <= a.x || bottom(a) <= b.y || bottom(b) <= a.y;

  it("never overlap, are alike, and lie on the stage", () => {
    for (const n of [1, 2, 3, 4]) {
      const all = panes(n, 900, 500);
      expect(all).toHaveLength(n);
      all.forEach((a, i) => {
        expect(right(a) <= 900 && bottom(a) <= 500 && area(a) === area(all[0]!)).toBe(true);
        all.slice(i + 1).forEach((b) => expect(apart(a, b)).toBe(true));
      });
    }
  });

  it("cover the stage in a wipe, wherever its lines are", () => {
    for (const n of [2, 3, 4])
      for (const [x, y] of [
        [300, 200],
        [0, 0],
        [900, 500],
        [900, 0],
      ] as const) {
        const all = wipeParts(n, x, y, 900, 500);
        expect(all).toHaveLength(n);
        expect(all.reduce((sum, r) => sum + area(r), 0)).toBe(900 * 500);
        all.forEach((a, i) =>
          all.slice(i + 1).forEach((b) => expect(area(a) * area(b) === 0 || apart(a, b)).toBe(true)),
        );
      }
  });
});

describe("a picture on another frame", () => {
  it("has square pixels, lies in the middle and reaches the border", () => {
    for (const picture of [
      [720, 450],
      [1080, 1080],
      [360, 225],
      [400, 1000],
      [1, 7],
    ] as [number, number][]) {
      const on = onFrame(picture, frame);
      const [w, h] = [picture[0] * on.times, picture[1] * on.times];
      expect(2 * on.x + w).toBeCloseTo(720, 9);
      expect(2 * on.y + h).toBeCloseTo(450, 9);
      expect(Math.min(on.x, on.y)).toBeCloseTo(0, 9);
      expect(w / h).toBeCloseTo(picture[0] / picture[1], 9);
    }
    expect(onFrame([360, 225], frame)).toEqual({ times: 2, x: 0, y: 0 });
  });
});
