import { Tooltip } from "antd";
import type { Progress } from "../api/types";
import { duration, percent } from "../app/format";

const [WIDTH, HEIGHT] = [150, 30];

/** Grain over time on logarithmic axes, and what another minute would bring (dashed). */
export function GrainChart({ progress, threshold }: { progress: Progress; threshold: number }) {
  const points = progress.history.filter((m) => m.seconds > 0 && m.grain > 0);
  const next = progress.in_a_minute;
  if (points.length < 2) return <span className="chart second">grain over time follows</span>;
  const last = points.at(-1)!;
  const end = next === null ? last.seconds : last.seconds + 60;
  const grains = [...points.map((m) => m.grain), threshold, ...(next === null ? [] : [next])].filter(
    (g) => g > 0,
  );
  const [low, high] = [Math.min(...grains) * 0.9, Math.max(...grains) * 1.1];
  const start = points[0]!.seconds;
  const along = (v: number, from: number, to: number) =>
    Math.log(v / from) / Math.log(Math.max(to / from, 1.01));
  const x = (s: number) => 2 + along(Math.max(s, start), start, end) * (WIDTH - 4);
  const y = (g: number) => HEIGHT - 2 - along(Math.max(g, low), low, high) * (HEIGHT - 4);
  const line = points.map((m) => `${x(m.seconds).toFixed(1)},${y(m.grain).toFixed(1)}`).join(" ");
  const words =
    next === null
      ? `grain ${percent(last.grain, 2)} after ${duration(last.seconds)}`
      : `grain ${percent(last.grain, 2)} after ${duration(last.seconds)}; another minute brings about ${percent(next, 2)}`;
  return (
    <Tooltip title={words}>
      <svg className="chart" width={WIDTH} height={HEIGHT} role="img" aria-label={words} data-testid="chart">
        <line x1={0} x2={WIDTH} y1={y(threshold)} y2={y(threshold)} className="chart-threshold" />
        <polyline points={line} className="chart-line" />
        {next !== null && (
          <line x1={x(last.seconds)} y1={y(last.grain)} x2={x(end)} y2={y(next)} className="chart-next" />
        )}
        <circle cx={x(last.seconds)} cy={y(last.grain)} r={2.2} />
      </svg>
    </Tooltip>
  );
}
