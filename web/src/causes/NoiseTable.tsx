import { Tooltip } from "antd";
import type { LedgerView, NoiseRow, ShotView } from "../api/types";
import { duration, percent } from "../app/format";
import { NumberField } from "../bench/NumberField";
import { LIGHT, partName, type Pass } from "./names";

interface Props {
  shot: ShotView;
  ledger: LedgerView;
  pass: Pass;
  show: (p: Pass) => void;
  setRays: (light: string, rays: number) => void;
}

/** A share as a bar to the right, or to the left of the line where it is negative. */
function Share({ value }: { value: number }) {
  const width = Math.min(Math.abs(value), 1) * 46;
  return (
    <span className="share-bar">
      <i style={value < 0 ? { right: 46, width: Math.min(width, 12) } : { left: 12, width }} />
      <b>{percent(value, Math.abs(value) < 0.0995 ? 1 : 0)}</b>
    </span>
  );
}

function Rows({ rows, title, p }: { rows: NoiseRow[]; title: string; p: Props }) {
  const { ledger } = p;
  const lights = title === "Light";
  return (
    <table className="ledger" data-testid={lights ? "noise-lights" : "noise-parts"}>
      <thead>
        <tr>
          <th>{title}</th>
          <th>
            <Tooltip title="Share of the grain's square as displayed. All rows add up to 100 %; a row below zero cancels grain of others.">
              of the grain
            </Tooltip>
          </th>
          <th>
            <Tooltip title="How much of the grain's square would go if this alone were free of noise">
              if clean
            </Tooltip>
          </th>
          <th>
            <Tooltip
              title={
                lights
                  ? "Time of its light rays from the first hit"
                  : "Sampling time of its rays. Light rays serve all kinds at once: their time is divided by the light that each brings."
              }
            >
              costs
            </Tooltip>
          </th>
          <th>of the light</th>
          {lights && (
            <th>
              <Tooltip title="Light rays of its own at every first hit, beside the common ones; for lamps and the environment">
                own rays
              </Tooltip>
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {rows.map((r) => {
          const t = ledger.costs[r.name];
          const name = r.name.slice(LIGHT.length);
          const own = lights ? ledger.ledgers.lights.find((l) => l.name === name)?.own : null;
          const on = p.pass.part === r.name;
          return (
            <tr key={r.name} className={on ? "chosen" : ""} data-row={r.name}>
              <td>
                <button
                  onClick={() =>
                    p.show(on ? { layer: "picture", part: "" } : { layer: "part", part: r.name })
                  }
                  aria-label={`Show ${partName(r.name)} alone`}
                >
                  {partName(r.name)}
                </button>
                {p.shot.lights[name]?.on === false && lights && <span className="second"> off</span>}
              </td>
              <td>
                <Share value={r.share} />
              </td>
              <td className="num">{percent(Math.max(r.gain, -9.99), 0)}</td>
              <td className="num">{t === undefined ? "–" : duration(t)}</td>
              <td className="num">{percent(r.light, r.light < 0.0995 ? 1 : 0)}</td>
              {lights && (
                <td>
                  {own !== null && own !== undefined ? (
                    <NumberField
                      label={`Own rays of ${partName(r.name)}`}
                      whole
                      value={p.shot.lights[name]?.split ?? 0}
                      onCommit={(n) => p.setRays(name, n)}
                    />
                  ) : (
                    <span className="second">–</span>
                  )}
                </td>
              )}
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** The noise ledger: parts and lights side by side, what pays most first. */
export function NoiseTable(p: Props) {
  const { noise } = p.ledger;
  if (!noise)
    return (
      <p className="empty">
        This proof keeps no parts. Switch on <b>Parts and lights</b> under Delivery and test again.
      </p>
    );
  return (
    <div className="ledgers">
      <Rows rows={noise.parts} title="Part" p={p} />
      <Rows rows={noise.lights} title="Light" p={p} />
    </div>
  );
}
