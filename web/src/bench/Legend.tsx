import { Slider } from "antd";
import { useState } from "react";
import type { Legends, Measure, Swatch, WhatIf } from "../api/types";
import { duration, percent, spoken, steps } from "../app/format";

export function Bars({
  swatches,
  text,
  mark,
}: {
  swatches: Swatch[];
  text: (v: number) => string;
  mark?: number;
}) {
  const most = Math.max(...swatches.map((s) => s.share), 1e-9);
  return (
    <div className="legend-bars">
      {swatches.map((s, i) => (
        <div
          key={i}
          className="legend-bar"
          title={`${text(s.value)} and up: ${percent(s.share)} of the pixels`}
        >
          <i style={{ height: `${(s.share / most) * 34}px` }} />
          <b style={{ background: `rgb(${s.colour.join(",")})` }} />
          {i === mark && <em />}
        </div>
      ))}
    </div>
  );
}

interface Props {
  legends: Legends;
  layer: "grain" | "samples";
  /** Of a region. */
  part: boolean;
  /** The threshold in force, and another one that is asked about. */
  inForce: number;
  asked: number | null;
  ask: (threshold: number | null) => void;
}

const judged: Record<Measure, string> = {
  displayed: "Grain",
  delivered: "Grain after the denoiser",
  relative: "Noise relative to the light",
};

/** The slider's positions are twelfths of an octave around the threshold in force. */
const FINE = 12;

function Ask({ w, part, asked, inForce }: { w: WhatIf; part: boolean; asked: boolean; inForce: number }) {
  const more = w.seconds / Math.max(w.took, 1e-3);
  return (
    <div className="legend-ask" data-testid="what-if">
      {!w.adaptive && (
        <span>
          {`Adaptive is off. At ${percent(inForce, 2)} it would have taken ${duration(w.seconds)} instead of ${duration(w.took)}${more < 1 ? `: ${percent(1 - more, 0)} saved` : ""}.`}
        </span>
      )}
      {(asked || w.adaptive) && (
        <span>
          {`${asked ? "Then" : "At this threshold"} the final takes about ${spoken(w.whole.seconds)} (${spoken(w.whole.low)} to ${spoken(w.whole.high)}${w.by === null ? "" : `, by ${w.by}`})${part ? `, this part ${duration(w.seconds)} (it took ${duration(w.took)})` : ""}; ${part ? "in it " : w.by === null ? "" : "in this proof "}${w.samples_per_pixel.toFixed(0)} samples a pixel, ${percent(w.settled, 0)} settled.`}
        </span>
      )}
    </div>
  );
}

export function Legend({ legends, layer, part, inForce, asked, ask }: Props) {
  const [folded, fold] = useState(false);
  if (layer === "samples") {
    const s = legends.samples;
    return (
      <div className="legend" data-testid="legend">
        <header>Samples a pixel</header>
        <Bars swatches={s} text={(v) => v.toFixed(0)} />
        <div className="legend-ends">
          <span>{s[0]?.value.toFixed(0)}</span>
          <span>
            {s.length > 1 ? ((s.at(-1)!.value * s.at(-1)!.value) / s.at(-2)!.value).toFixed(0) : "all"}
          </span>
        </div>
      </div>
    );
  }
  const g = legends.grain;
  const mark = g.swatches.findIndex((s) => s.value >= g.threshold * 0.999);
  const at = asked ?? inForce;
  return (
    <div className="legend grain-legend" data-testid="legend">
      <header>
        {judged[g.measure]}, about {percent(g.grain, 2)}
        {g.measure !== "relative" && ` = ${steps(g.grain)} of 255 steps`}
        <span className="grow" />
        <button aria-label={folded ? "Unfold the legend" : "Fold the legend"} onClick={() => fold(!folded)}>
          {folded ? "▴" : "▾"}
        </button>
      </header>
      <Bars swatches={g.swatches} text={(v) => percent(v, 2)} mark={mark} />
      <div className="legend-ends">
        <span>{percent(g.swatches[0]!.value, 2)}</span>
        <span>threshold {percent(g.threshold, 2)}</span>
        <span>{percent(g.threshold * 8, 1)}</span>
      </div>
      {folded ? null : (
        <>
          <footer>
            {percent(g.below, 0)} at or below · {percent(g.capped, 0)} capped <span className="hatch" /> ·
            worst block {percent(g.worst_block)}
          </footer>
          <div className="legend-slider">
            <span>and at {percent(at, 2)}?</span>
            <Slider
              min={-4 * FINE}
              max={4 * FINE}
              value={Math.round(Math.log2(at / inForce) * FINE)}
              tooltip={{ open: false }}
              onChange={(v) => ask(v === 0 ? null : Math.min(1, inForce * Math.pow(2, v / FINE)))}
              ariaLabelForHandle="Ask about another threshold"
            />
            {asked !== null && <button onClick={() => ask(null)}>back</button>}
          </div>
          {legends.ask && <Ask w={legends.ask} part={part} asked={asked !== null} inForce={at} />}
        </>
      )}
    </div>
  );
}
