import type { Fit } from "../api/types";
import { duration, percent } from "../app/format";

const [WIDTH, HEIGHT] = [380, 280];
const [LEFT, BOTTOM, TOP, RIGHT] = [46, 34, 12, 10];

/** Round numbers between two bounds, about one or two a decade. */
function ticks(low: number, high: number, marks: number[]): number[] {
  const out: number[] = [];
  for (let e = Math.floor(Math.log10(low)); e <= Math.ceil(Math.log10(high)); e += 1)
    for (const m of marks) {
      const v = m * 10 ** e;
      if (v >= low && v <= high) out.push(v);
    }
  return out;
}

const TIMES = [1, 5, 15, 60, 300, 1200, 3600, 4 * 3600, 24 * 3600];

/** Minutes against grain, both logarithmic: the band is the forecast's interval. */
export function Curve({ fit }: { fit: Fit }) {
  const points = fit.curve.filter((p) => p.seconds > 0 && p.grain > 0);
  if (points.length < 2) return null;
  const times = [...points.map((p) => p.seconds), fit.budget, fit.now.seconds];
  const grains = [...points.map((p) => p.grain), fit.now.grain].filter((g) => g > 0);
  const [t0, t1] = [Math.min(...times) * 0.8, Math.max(...times) * 1.25];
  const [g0, g1] = [Math.min(...grains) * 0.8, Math.max(...grains) * 1.2];
  const along = (v: number, a: number, b: number) => Math.log(v / a) / Math.log(b / a);
  const x = (s: number) => LEFT + along(Math.max(s, t0), t0, t1) * (WIDTH - LEFT - RIGHT);
  const y = (g: number) => HEIGHT - BOTTOM - along(Math.max(g, g0), g0, g1) * (HEIGHT - BOTTOM - TOP);
  const at = (s: number, g: number) => `${x(s).toFixed(1)},${y(g).toFixed(1)}`;
  const band = [
    ...points.map((p) => at(p.low, p.grain)),
    ...points.toReversed().map((p) => at(p.high, p.grain)),
  ];
  return (
    <svg
      className="curve"
      width={WIDTH}
      height={HEIGHT}
      role="img"
      aria-label="Minutes against grain"
      data-testid="fit-curve"
    >
      {TIMES.filter((t) => t > t0 && t < t1).map((t) => (
        <g key={t}>
          <line className="curve-grid" x1={x(t)} x2={x(t)} y1={TOP} y2={HEIGHT - BOTTOM} />
          <text x={x(t)} y={HEIGHT - BOTTOM + 14} textAnchor="middle">
            {t < 60 ? `${t} s` : t < 3600 ? `${t / 60} min` : `${t / 3600} h`}
          </text>
        </g>
      ))}
      {ticks(g0, g1, [1, 2, 5]).map((g) => (
        <g key={g}>
          <line className="curve-grid" x1={LEFT} x2={WIDTH - RIGHT} y1={y(g)} y2={y(g)} />
          <text x={LEFT - 5} y={y(g) + 4} textAnchor="end">
            {percent(g, g < 0.001 ? 2 : g < 0.01 ? 1 : 0)}
          </text>
        </g>
      ))}
      <polygon className="curve-band" points={band.join(" ")} />
      <polyline className="curve-line" points={points.map((p) => at(p.seconds, p.grain)).join(" ")} />
      <line className="curve-budget" x1={x(fit.budget)} x2={x(fit.budget)} y1={TOP} y2={HEIGHT - BOTTOM} />
      <text x={x(fit.budget) + 4} y={TOP + 10}>
        budget
      </text>
      <g>
        <circle className="curve-now" cx={x(fit.now.seconds)} cy={y(fit.now.grain)} r={4.5} />
        <title>{`now ${duration(fit.now.seconds)}, grain ${percent(fit.now.grain, 2)}`}</title>
      </g>
      <circle className="curve-then" cx={x(fit.then.seconds)} cy={y(fit.then.grain)} r={4.5} />
      <text x={x(fit.then.seconds) + 8} y={y(fit.then.grain) + 16}>
        fit
      </text>
      {Math.hypot(x(fit.now.seconds) - x(fit.then.seconds), y(fit.now.grain) - y(fit.then.grain)) > 24 && (
        <text x={x(fit.now.seconds) + 8} y={y(fit.now.grain) - 6}>
          now
        </text>
      )}
      <text className="curve-axis" x={(LEFT + WIDTH) / 2} y={HEIGHT - 2} textAnchor="middle">
        render time
      </text>
    </svg>
  );
}
