import { Tooltip } from "antd";
import type { DepthTable } from "../api/types";
import { percent } from "../app/format";

const HEIGHT = 96;
const COLUMN = 20;

/** Heights on a scale of the fourth root, on which a thousandth still shows. */
const tall = (share: number) => Math.pow(Math.max(share, 0), 0.25) * (HEIGHT - 14);

/** Time and light of each bounce, and where light falls below what is seen. */
export function DepthChart({ table, limit }: { table: DepthTable; limit: number }) {
  const width = table.rows.length * COLUMN + 4;
  const enough = table.rows.find((r) => r.loss.most <= 0.5)?.bounces;
  return (
    <svg
      className="depth-chart"
      width={width}
      height={HEIGHT + 14}
      role="img"
      aria-label="Time and light by bounce"
    >
      {table.rows.map((r, i) => (
        <Tooltip
          key={r.bounces}
          title={`bounce ${r.bounces}: ${percent(r.time)} of the time, ${percent(r.light, 2)} of the light`}
        >
          <g opacity={r.bounces > limit ? 0.35 : 1}>
            <rect x={i * COLUMN} y={0} width={COLUMN} height={HEIGHT + 14} fill="transparent" />
            <rect
              className="depth-time"
              x={i * COLUMN + 3}
              y={HEIGHT - tall(r.time)}
              width={7}
              height={tall(r.time)}
            />
            <rect
              className="depth-light"
              x={i * COLUMN + 11}
              y={HEIGHT - tall(r.light)}
              width={7}
              height={tall(r.light)}
            />
            <text x={i * COLUMN + 10} y={HEIGHT + 11} textAnchor="middle">
              {r.bounces}
            </text>
          </g>
        </Tooltip>
      ))}
      {enough !== undefined && (
        <line
          className="depth-enough"
          x1={(enough - table.rows[0]!.bounces + 1) * COLUMN}
          x2={(enough - table.rows[0]!.bounces + 1) * COLUMN}
          y1={2}
          y2={HEIGHT}
        />
      )}
    </svg>
  );
}
