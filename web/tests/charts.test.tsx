import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";
import type { DepthRow, Fit, Forecast, ForecastView, Progress } from "../src/api/types";
import { GrainChart } from "../src/bench/GrainChart";
import { TimeBill } from "../src/bench/TimeBill";
import { DepthChart } from "../src/causes/DepthChart";
import { Curve } from "../src/fit/Curve";

/** The numbers of a picture's points, in pairs. */
const points = (text: string): [number, number][] =>
  text.split(" ").map((pair) => pair.split(",").map(Number) as [number, number]);
const found = (markup: string, pattern: RegExp): string => {
  const match = pattern.exec(markup);
  expect(match, `${pattern} in ${markup}`).not.toBeNull();
  return match![1]!;
};
const all = (markup: string, pattern: RegExp) => [...markup.matchAll(pattern)].map((m) => Number(m[1]));
const rises = (v: number[]) => v.every((x, i) => i === 0 || x > v[i - 1]!);

describe("the time bill", () => {
  const forecast: Forecast = {
    seconds: 80,
    low: 60,
    high: 120,
    causes: [
      { kind: "camera", seconds: 10 },
      { kind: "direct", seconds: 50 },
      { kind: "diffuse", seconds: 19.8 },
      { kind: "volume", seconds: 0 },
      { kind: "files", seconds: 0.2 },
    ],
    samples_per_pixel: 64,
    sampling: 79,
    processor: 158,
    beside: 80,
    grain: 0.02,
    settled: 0.9,
    seen: 1,
    shares: [1],
    basis: "all",
    measured: true,
    counted: false,
    memory: 4e8,
    files: [{ kind: "exr_half", bytes: 2e6 }],
    history: 0,
    factor: 1,
    needs_test: [],
  };
  const view = (f: Partial<Forecast>, more: Partial<ForecastView> = {}): ForecastView => ({
    forecast: { ...forecast, ...f },
    by: "proof 3",
    rests: [{ name: "proof 3", share: 1 }],
    unused: [],
    changed: [],
    marks: [],
    judged_anew: false,
    judging: false,
    budget: 180,
    ...more,
  });
  const nothing = () => {};
  const shown = (v: ForecastView | null, budget = 180) =>
    renderToStaticMarkup(<TimeBill view={v} budget={budget} pilot={nothing} fit={nothing} />);
  const words = (markup: string) =>
    markup
      .replaceAll("<!-- -->", "")
      .replace(/<[^>]*>/g, " ")
      .replace(/\s+/g, " ");

  it("draws causes, interval and budget on one scale", () => {
    for (const budget of [50, 90, 180, 3600]) {
      const markup = shown(view({}), budget);
      const span = Math.max(120, budget) * 1.06;
      const parts = all(markup, /class="bill-part" style="width:([\d.]+)%/g);
      expect(parts.reduce((a, b) => a + b, 0)).toBeCloseTo((80 / span) * 100, 3);
      expect(parts[1]! / parts[0]!).toBeCloseTo(5, 3);
      const [from, wide] = /bill-spread" style="left:([\d.]+)%;width:([\d.]+)%/
        .exec(markup)!
        .slice(1)
        .map(Number);
      expect([from! / 100, (from! + wide!) / 100].map((x) => x * span)).toEqual([
        expect.closeTo(60, 3),
        expect.closeTo(120, 3),
      ]);
      expect((Number(found(markup, /bill-budget" style="left:([\d.]+)%/)) / 100) * span).toBeCloseTo(
        budget,
        3,
      );
    }
  });

  it("says how sure it is and what is left", () => {
    expect(words(shown(view({})))).toContain(
      "Final 1:20 (1:00 to 2:00) · from the grain of proof 3 1 min 40 s in hand of 3 min",
    );
    expect(words(shown(view({ counted: true })))).toContain("· measured by proof 3");
    const pilot = shown(view({ basis: "scattered", measured: false, seen: 0.11 }), 60);
    expect(words(pilot)).toContain(
      "· from squares all over the frame of proof 3, saw 11 % 20 s over the 1 min budget",
    );
    // Causes that nobody would see are not in the legend.
    const legend = words(shown(view({})));
    expect([legend.includes("Diffuse 20 s"), legend.includes("Files"), legend.includes("Volume")]).toEqual([
      true,
      false,
      false,
    ]);
  });

  it("tells what it does not know before what it does", () => {
    const unknown = words(shown(view({}, { changed: ["Filter"] })));
    expect(unknown).toContain("Filter changed since proof 3: a pilot is needed to know");
    expect(unknown).not.toContain("Diffuse 20 s");
    const judging = shown(view({}, { changed: ["Denoise"], judging: true }));
    expect(words(judging)).toContain("is being judged anew");
    const beside = shown(
      view({ beside: 130 }, { marks: ["measured beside other work: 40 % of the processors"] }),
    );
    expect(words(beside)).toContain("measured beside other work, 2:10 if that goes on");
    expect(words(shown(null))).toContain("Final not forecast yet");
  });
});

describe("charts", () => {
  it("grain over time runs rightwards and down where grain falls, to where another minute leads", () => {
    const history = [1, 2, 4, 8, 16].map((seconds) => ({
      seconds,
      samples_per_pixel: 4 * seconds,
      grain: 0.1 / Math.sqrt(seconds),
    }));
    const progress = { history, in_a_minute: 0.1 / Math.sqrt(76) } as Progress;
    const markup = renderToStaticMarkup(<GrainChart progress={progress} threshold={0.02} />);
    const line = points(found(markup, /<polyline points="([^"]+)"/));
    expect(rises(line.map((p) => p[0])) && rises(line.map((p) => p[1]))).toBe(true);
    // A power law is a straight line where both axes are logarithmic, and goes on as one.
    const [a, b] = [line[0]!, line[3]!];
    const slope = (b[1] - a[1]) / (b[0] - a[0]);
    for (const [x, y] of line) expect(y - a[1]).toBeCloseTo(slope * (x - a[0]), 0);
    const end = ["x2", "y2"].map((k) => Number(found(markup, new RegExp(`${k}="([\\d.]+)"[^>]*chart-next`))));
    expect(end[1]! - a[1]).toBeCloseTo(slope * (end[0]! - a[0]), 0);
    expect(markup).toContain("another minute brings about 1.15 %");
  });

  it("bars of bounces show a thousandth, and the line stands where the rest is not seen", () => {
    const row = (bounces: number, light: number, most: number) =>
      ({ bounces, time: light, light, loss: { mean: 0, most, worst: most } }) as DepthRow;
    const rows = [row(1, 0.8, 20), row(2, 0.1, 3), row(3, 0.001, 0.4), row(4, 0, 0)];
    const markup = renderToStaticMarkup(<DepthChart table={{ kind: "all", rows }} limit={3} />);
    const heights = all(markup, /class="depth-light"[^>]*height="([\d.]+)"/g);
    expect(heights[2]! / heights[0]!).toBeCloseTo((0.001 / 0.8) ** 0.25, 6);
    expect(heights[3]).toBe(0);
    expect(Number(found(markup, /class="depth-enough" x1="(\d+)"/))).toBe(3 * 20);
    // Beyond the limit they are pale.
    expect(all(markup, /<g opacity="([\d.]+)"/g)).toEqual([1, 1, 1, 0.35]);
  });

  it("minutes against grain fall, inside their band", () => {
    const at = (seconds: number) => ({
      threshold: 0.1 / Math.sqrt(seconds),
      seconds,
      low: 0.8 * seconds,
      high: 1.3 * seconds,
      grain: 0.1 / Math.sqrt(seconds),
    });
    const curve = [20, 40, 80, 160].map(at);
    const end = (seconds: number) => ({ ...at(seconds) }) as unknown as Forecast;
    const fit = { budget: 80, curve, now: end(160), then: end(80) } as Fit;
    const markup = renderToStaticMarkup(<Curve fit={fit} />);
    const line = points(found(markup, /curve-line" points="([^"]+)"/));
    const band = points(found(markup, /curve-band" points="([^"]+)"/));
    expect(rises(line.map((p) => p[0])) && rises(line.map((p) => p[1]))).toBe(true);
    line.forEach(([x, y], i) => {
      const [low, high] = [band[i]!, band[band.length - 1 - i]!];
      expect(low[0] < x && x < high[0] && low[1] === y && high[1] === y).toBe(true);
    });
    // The budget's line goes through the point that takes the budget.
    const budget = Number(found(markup, /curve-budget" x1="([\d.]+)"/));
    expect(budget).toBeCloseTo(line[2]![0], 0);
    expect(Number(found(markup, /curve-then" cx="([\d.]+)"/))).toBeCloseTo(budget, 6);
    expect(markup).toMatch(/>1 min<.*>budget<.*>fit<.*>now</s);
  });
});
