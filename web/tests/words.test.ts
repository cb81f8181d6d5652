import { describe, expect, it } from "vitest";
import type { Knob, Price, PricesView, ProofView, ShotView } from "../src/api/types";
import { asNoisy, lookAt, lookOf, pictureAddress } from "../src/bench/look";
import { brief, words } from "../src/bench/prices";
import { valueIn, valueText } from "../src/bench/values";
import { endedTest, whyNone } from "../src/causes/ended";
import { partName } from "../src/causes/names";

const knob = { id: "split.direct", unit: "" } as Knob;
const view = { by: "proof 7", stale: [] as string[] } as PricesView;
const price = (p: Partial<Price>): Price => ({
  knob: knob.id,
  step: 2,
  seconds: 0,
  unsure: null,
  grain: null,
  look: null,
  from: "measured",
  ...p,
});

describe("a price", () => {
  it("says what the step saves and what it loses", () => {
    const p = price({ seconds: 22.4, grain: [0.02, 0.022] });
    expect(brief(p)).toBe("costs 22 s · buys 0.20 %");
    const told = words(knob, p, view);
    expect(told).toContain(
      "The step to 2 would save 22 s of the final and lose: grain of the final 2.00 % → 2.20 %.",
    );
    expect(told).toContain("Measured in proof 7.");
    const look = { mean: 0.1, most: 1.26, worst: 3.4 };
    expect(brief(price({ seconds: 4, look }))).toBe("costs 4.0 s · buys 1.3 steps");
    expect(brief(price({ seconds: 4, look: { ...look, most: 0.001 } }))).toBe("costs 4.0 s · buys nothing");
  });

  it("is no promise where its sign is not known", () => {
    const unknown = price({ seconds: 2.6, unsure: 4, from: "extrapolated" });
    expect(brief(unknown)).toBe("costs or saves up to 6.6 s");
    expect(words(knob, unknown, view)).toMatch(
      /would save 2\.6 s of the final \(± 4\.0 s: .*not known without a trial/,
    );
    expect(brief({ ...unknown, seconds: -2.6 })).toBe("costs or saves up to 6.6 s");
    const tried = price({ seconds: 8, unsure: 3, grain: [0.02, 0.02] });
    expect(brief(tried)).toBe("costs 8.0 s ±\u00a03.0 s · buys nothing");
    expect(words(knob, tried, view)).toContain("from a short trial");
    // Without a trial nothing is said of what it buys.
    expect(brief({ ...tried, grain: null })).toBe("costs 8.0 s ±\u00a03.0 s");
  });

  it("that is negative is a saving", () => {
    expect(brief(price({ seconds: -5 }))).toBe("saves 5.0 s");
    expect(words(knob, price({ seconds: -5 }), view)).toContain("would lengthen the final by 5.0 s");
    expect(brief(price({ seconds: 0.01 }))).toBe("changes nothing here");
  });

  it("names the denoiser where that is what goes, and nothing where that is not known", () => {
    const told = (id: string) => words({ ...knob, id }, price({ knob: id, step: "none", seconds: 3 }), view);
    expect(told("cleanup.denoise")).toContain("of the final and lose: the denoiser.");
    expect(told("split.direct")).not.toContain("lose");
  });

  it("of another picture says so", () => {
    const stale = { ...view, stale: ["exposure", "lights"] };
    expect(words(knob, price({ seconds: 3 }), stale)).toContain("other exposure, lights: test to renew it");
  });
});

describe("values", () => {
  it("are written as people read them", () => {
    const share = { unit: "share" } as Knob;
    expect([valueText(share, 0.02), valueText(share, 0.5), valueText(knob, 16)]).toEqual([
      "2.00 %",
      "50 %",
      "16",
    ]);
    expect([true, false, null, "blackman_harris", "none"].map((v) => valueText(knob, v))).toEqual([
      "on",
      "off",
      "unknown",
      "Blackman–Harris",
      "none",
    ]);
  });

  it("names of parts and lights are told apart", () => {
    expect([
      partName("diffuse_direct"),
      partName("light key"),
      partName("light "),
      partName("other"),
    ]).toEqual(["Diffuse, direct", "key", "nameless", "other"]);
  });
});

describe("a knob's value in a proof", () => {
  const knob = { id: "sampling.most", default: 256 } as unknown as Knob;
  const proof = (camera: string | null, tuning: object) => ({ camera, tuning }) as unknown as ProofView;

  it("is the default where the proof tells none, and unknown where nothing is told", () => {
    expect(valueIn(proof("Front", { "sampling.most": 64 }), knob)).toBe(64);
    expect(valueIn(proof("Front", { "sampling.most": 0 }), knob)).toBe(0);
    expect(valueIn(proof("Front", {}), knob)).toBe(256);
    // A picture from elsewhere, or a proof that cannot be read.
    expect(valueIn(proof(null, {}), knob)).toBeUndefined();
    expect(valueIn(undefined, knob)).toBeUndefined();
  });
});

describe("what is looked at", () => {
  const shot = {
    threshold: 0.02,
    tuning: {
      "view.exposure": 1,
      "view.transform": "srgb",
      "view.table": 0,
      "cleanup.denoise": "none",
      "cleanup.blend": 1,
      "cleanup.diffuse": true,
      "cleanup.specular": true,
      "cleanup.rest": false,
      "cleanup.stray": 0.5,
    },
    in_force: [{ id: "cleanup.denoise", value: "quick", whose: "Draft" }],
  } as unknown as ShotView;
  const look = lookOf(shot, { struck: "", pointed: "" });

  it("is the shot's view with what overlays put in force", () => {
    expect([look.exposure, look.denoise, look.stray, look.rest]).toEqual([1, "quick", 0.5, false]);
    expect(asNoisy(look)).toEqual({ ...look, denoise: "none", stray: 0 });
  });

  it("is asked for in full", () => {
    expect(pictureAddress(null, look)).toBeNull();
    const address = new URL(
      pictureAddress(12, look, { layer: "grain", part: "light key & fill" })!,
      "http://x",
    );
    expect(address.pathname).toBe("/api/proofs/12/picture");
    const asked = Object.fromEntries(address.searchParams);
    expect(asked).toMatchObject({
      exposure: "1",
      denoise: "quick",
      part: "light key & fill",
      threshold: "0.02",
    });
    expect(Object.keys(asked).sort()).toEqual([...Object.keys(look), "layer", "part"].sort());
  });
});

describe("ledgers", () => {
  const proof = (p: Partial<ProofView>) => ({ kind: "test", state: "ended", ...p }) as ProofView;

  it("are there when a test has ended, else it is said why not", () => {
    const ended = proof({});
    expect(endedTest(ended)).toBe(ended);
    for (const none of [undefined, proof({ state: "running" }), proof({ kind: "picture" })])
      expect(endedTest(none)).toBeUndefined();
    const why = [undefined, proof({ state: "running" }), proof({ kind: "picture" }), ended].map((p) =>
      whyNone(p, "where the grain comes from"),
    );
    expect(new Set(why).size).toBe(4);
    expect(why[0]).toContain("then this says where the grain comes from");
  });
});

describe("how a proof is looked at", () => {
  const base = { denoise: "careful", blend: 1, stray: 0.5, exposure: 1 } as ReturnType<typeof lookOf>;
  const proof = (id: number, kind: ProofView["kind"]) => ({ id, kind }) as ProofView;
  it("cleans tests as the shot says, and references and dropped pictures only where it is asked for", () => {
    expect(lookAt(base, proof(1, "test"), {}).denoise).toBe("careful");
    for (const kind of ["picture", "reference"] as const) {
      const bare = lookAt(base, proof(2, kind), { 1: { denoise: "quick" } });
      expect([bare.denoise, bare.stray, bare.exposure]).toEqual(["none", 0, 1]);
      expect(lookAt(base, proof(2, kind), { 2: { denoise: "quick" } }).denoise).toBe("quick");
    }
    expect(lookAt(base, undefined, { 1: { denoise: "quick" } })).toBe(base);
  });
});
