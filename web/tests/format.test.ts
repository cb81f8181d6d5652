import { describe, expect, it } from "vitest";
import { arithmetic, count, duration, percent, ratio, size, spoken, steps } from "../src/app/format";

/** Small random numbers that are the same each time (a linear congruential generator). */
function dice(seed: number): (below: number) => number {
  let state = seed;
  return (below) => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
}

describe("times", () => {
  it("change their form where they get longer", () => {
    const told = [0, 0.04, 9.94, 11.4, 59.4, 60, 125, 3599.6, 3725].map(duration);
    expect(told).toEqual(["0.0 s", "0.0 s", "9.9 s", "11 s", "59 s", "1:00", "2:05", "1:00:00", "1:02:05"]);
  });

  it("never show a field that is full", () => {
    const roll = dice(7);
    for (let i = 0; i < 2000; i++) {
      const s = roll(400_000) / 7;
      for (const text of [duration(s), spoken(s)]) {
        expect(text, String(s)).not.toMatch(/\b60 (s|min)|:60|^10\.0 s/);
      }
    }
  });

  it("say what they are: read back they are off by half of their last place", () => {
    const roll = dice(11);
    for (let i = 0; i < 500; i++) {
      const s = roll(1_000_000) / 37;
      const read = duration(s)
        .replace(" s", "")
        .split(":")
        .reduce((sum, field) => 60 * sum + Number(field), 0);
      expect(Math.abs(read - s)).toBeLessThanOrEqual(s < 9.95 ? 0.051 : 0.501);
    }
  });

  it("are spoken in two units at the most", () => {
    expect([12, 60, 760, 3600, 5400, 7199].map(spoken)).toEqual([
      "12 s",
      "1 min",
      "12 min 40 s",
      "1 h 0 min",
      "1 h 30 min",
      "2 h 0 min",
    ]);
  });
});

describe("figures", () => {
  it("name their unit", () => {
    expect([percent(0.0123), percent(0.5, 0), steps(1 / 255)]).toEqual(["1.2 %", "50 %", "1.0"]);
    expect([count(4096), count(51_840_000), count(2.5e9)]).toEqual(["4,096", "51.8 million", "2.50 billion"]);
    expect([size(40), size(52_400), size(8_340_000)]).toEqual(["1 kB", "52 kB", "8.3 MB"]);
  });

  it("compare from the nearer side", () => {
    const told = [4.2, 0.25, 1.003, 12.4].map((r) => ratio(r, "faster", "slower"));
    expect(told).toEqual(["4.20 × faster", "4.00 × slower", "the same", "12 × faster"]);
  });
});

describe("sums as typed", () => {
  it("are what the language itself makes of them", () => {
    const roll = dice(3);
    const pick = <T>(from: T[]): T => from[roll(from.length)]!;
    const sum = (deep: number): string => {
      if (deep === 0) return pick(["2", "0.5", "17", ".25", "3e2", "1920"]);
      const form = pick(["two", "two", "two", "brackets", "sign"]);
      if (form === "brackets") return `(${sum(deep - 1)})`;
      // In brackets, for two signs in a row are another operator to the language.
      if (form === "sign") return `(-(${sum(deep - 1)}))`;
      return `${sum(deep - 1)}${pick([" ", ""])}${pick(["+", "-", "*", "/"])}${pick([" ", ""])}${sum(deep - 1)}`;
    };
    for (let i = 0; i < 1000; i++) {
      const text = sum(1 + roll(4));
      const expected = Number(new Function(`return ${text}`)());
      if (!Number.isFinite(expected)) expect(arithmetic(text), text).toBeUndefined();
      else
        expect(arithmetic(text), text).toBeCloseTo(
          expected,
          9 - Math.ceil(Math.log10(Math.abs(expected) + 1)),
        );
    }
  });

  it("may have a decimal comma", () => expect(arithmetic("1,5*2")).toBe(3));

  it("are refused where they are none", () => {
    for (const text of ["", " ", "abc", "2*", "(2", "2)", "2 px", "1/0", "2**3", "--"])
      expect(arithmetic(text), text).toBeUndefined();
  });
});
