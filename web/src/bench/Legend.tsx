import type { Legends, Swatch } from "../api/types";
import { percent, steps } from "../app/format";

function Bars({ swatches, text, mark }: { swatches: Swatch[]; text: (v: number) => string; mark?: number }) {
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

export function Legend({ legends, layer }: { legends: Legends; layer: "grain" | "samples" }) {
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
  return (
    <div className="legend" data-testid="legend">
      <header>
        Grain, about {percent(g.grain, 2)} = {steps(g.grain)} of 255 steps
      </header>
      <Bars swatches={g.swatches} text={(v) => percent(v, 2)} mark={mark} />
      <div className="legend-ends">
        <span>{percent(g.swatches[0]!.value, 2)}</span>
        <span>threshold {percent(g.threshold, 2)}</span>
        <span>{percent(g.threshold * 8, 1)}</span>
      </div>
      <footer>
        {percent(g.below, 0)} at or below · {percent(g.capped, 0)} capped <span className="hatch" /> · worst
        block {percent(g.worst_block)}
      </footer>
    </div>
  );
}
