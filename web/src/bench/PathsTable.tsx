import { Tooltip } from "antd";
import type { Knob, PricesView, ProofView, RayCount, ShotView } from "../api/types";
import { NumberField } from "./NumberField";
import { PriceTag } from "./Price";
import { valueIn, valueText, type Value } from "./values";

/** A row of the table: its knobs, and the kind by which rays are counted. */
const parts = [
  { label: "Direct", kind: "direct", split: "split.direct", depth: null, clamp: "clamp.direct" },
  {
    label: "Diffuse",
    kind: "diffuse",
    split: "split.diffuse",
    depth: "depth.diffuse",
    clamp: "clamp.diffuse",
  },
  {
    label: "Reflection",
    kind: "reflection",
    split: "split.reflection",
    depth: "depth.reflection",
    clamp: "clamp.reflection",
  },
  {
    label: "Transmission",
    kind: "transmission",
    split: "split.transmission",
    depth: "depth.transmission",
    clamp: "clamp.transmission",
  },
  { label: "Volume", kind: "volume", split: null, depth: "depth.volume", clamp: "clamp.volume" },
] as const;

export const inTable = new Set<string>(
  parts.flatMap((p) => [p.split, p.depth, p.clamp]).filter((id) => id !== null),
);

interface Props {
  shot: ShotView;
  knobs: Knob[];
  set: (changes: Record<string, Value>) => void;
  prices: PricesView | null | undefined;
  /** Of the shown proof. */
  rays: RayCount[] | undefined;
  /** Of the compared proof. */
  other: ProofView | undefined;
}

/** All that can be set for each part of the light: rays at the first hit, depth and clamp. */
export function PathsTable({ shot, knobs, set, prices, rays, other }: Props) {
  const cell = (id: string | null) => {
    const knob = knobs.find((k) => k.id === id);
    if (!id || !knob) return <td className="second">–</td>;
    const value = shot.tuning[id] as Value;
    const changed = value !== knob.default;
    const otherValue = valueIn(other, knob);
    const apart = otherValue !== undefined && otherValue !== value;
    const force = shot.in_force.find((f) => f.id === id);
    const limitless = id.startsWith("clamp.") && value === 0;
    return (
      <td
        data-knob={id}
        className={`${changed ? "changed" : ""}${apart ? " apart" : ""}${force ? " drafted" : ""}`}
      >
        <Tooltip
          placement="left"
          mouseEnterDelay={0.4}
          title={
            <>
              {knob.help}
              <br />
              <span className="help-id">
                {`${id} · default ${valueText(knob, knob.default)}`}
                {apart && ` · compared ${valueText(knob, otherValue)}`}
                {force && ` · tests: ${valueText(knob, force.value)} by ${force.whose}`}
              </span>
            </>
          }
        >
          <span>
            <NumberField
              label={knob.label}
              value={Number(value)}
              whole={knob.kind.type === "whole"}
              step={1}
              onCommit={(v) => set({ [id]: v })}
            />
          </span>
        </Tooltip>
        {limitless && <span className="none">none</span>}
        {changed && (
          <button aria-label={`Reset ${knob.label}`} onClick={() => set({ [id]: knob.default as Value })}>
            ↺
          </button>
        )}
        <PriceTag knob={knob} view={prices} />
      </td>
    );
  };
  return (
    <table className="paths-table" aria-label="Paths">
      <thead>
        <tr>
          <th />
          <th>
            <Tooltip title="Rays at the first hit of each camera sample">split</Tooltip>
          </th>
          <th>depth</th>
          <th>clamp</th>
          <th>
            <Tooltip title="Rays for each camera sample in the shown proof">rays</Tooltip>
          </th>
        </tr>
      </thead>
      <tbody>
        {parts.map((p) => {
          const r = rays?.find((x) => x.kind === p.kind);
          return (
            <tr key={p.kind} className={r && r.rays === 0 ? "idle" : ""}>
              <th>{p.label}</th>
              {cell(p.split)}
              {cell(p.depth)}
              {cell(p.clamp)}
              <td className="num second">
                {!r || r.rays === 0 ? (
                  (r && "none") || "–"
                ) : (
                  <Tooltip
                    title={`${r.per_sample.toFixed(2)} rays for each camera sample, ${r.first_per_sample.toFixed(2)} of them from the first hit`}
                  >
                    <span>{r.per_sample.toFixed(2)}</span>
                  </Tooltip>
                )}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
