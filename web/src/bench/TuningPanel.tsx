import { HistoryOutlined, RedoOutlined, UndoOutlined } from "@ant-design/icons";
import { Button, Popover, Select, Switch, Tooltip } from "antd";
import { useState } from "react";
import { ask } from "../api/client";
import { useComparison, useRevisions } from "../api/queries";
import type { Group, Knob, ProofView, ShotView } from "../api/types";
import { clock, percent, ratio } from "../app/format";
import { useAct } from "../app/useAct";
import { NumberField } from "./NumberField";
import { proofTitle } from "./ProofSheet";

const groups: [Group, string][] = [
  ["frame", "Frame"],
  ["sampling", "Sampling"],
  ["paths", "Paths"],
  ["lights", "Lights"],
  ["clean_up", "Clean-up"],
  ["view", "View"],
  ["delivery", "Delivery"],
];

type Value = number | boolean | string;

const pretty: Record<string, string> = {
  box: "box",
  triangle: "triangle",
  gaussian: "Gaussian",
  blackman_harris: "Blackman–Harris",
  mitchell_netravali: "Mitchell–Netravali",
  lanczos: "Lanczos",
  soft: "soft",
  hard: "hard",
  srgb: "sRGB",
  shoulder: "soft shoulder",
  none: "none",
  quick: "quick guided",
};

export function valueText(knob: Knob | undefined, v: unknown): string {
  if (typeof v === "boolean") return v ? "on" : "off";
  if (typeof v === "number" && knob?.unit === "share") return percent(v, v < 0.1 ? 2 : 0);
  return pretty[String(v)] ?? String(v);
}

function Row(props: { knob: Knob; value: Value; set: (v: Value) => void; compared: Value | undefined }) {
  const { knob, value, set, compared } = props;
  const changed = value !== knob.default;
  const apart = compared !== undefined && compared !== value;
  const help = (
    <>
      {knob.help}
      <br />
      <span className="help-id">
        {knob.id} · default {valueText(knob, knob.default)}
        {knob.trades.length > 0 && ` · trades ${knob.trades.join(", ")}`}
      </span>
    </>
  );
  return (
    <div className={`knob${changed ? " changed" : ""}${apart ? " apart" : ""}`} data-knob={knob.id}>
      <Tooltip title={help} placement="left" mouseEnterDelay={0.4}>
        <span className="knob-label">
          {knob.label}
          {knob.unit && knob.unit !== "share" && <span className="second"> {knob.unit}</span>}
        </span>
      </Tooltip>
      <span className="knob-mark">
        {changed && (
          <Tooltip title={`Back to the default, ${valueText(knob, knob.default)}`}>
            <button aria-label={`Reset ${knob.label}`} onClick={() => set(knob.default as Value)}>
              ↺
            </button>
          </Tooltip>
        )}
        {apart && <Tooltip title={`The compared proof has ${valueText(knob, compared)}`}>≠</Tooltip>}
      </span>
      <span className="knob-value">
        {knob.kind.type === "switch" ? (
          <Switch size="small" checked={value === true} onChange={set} aria-label={knob.label} />
        ) : knob.kind.type === "choice" ? (
          <Select
            size="small"
            value={String(value)}
            onChange={set}
            aria-label={knob.label}
            options={knob.kind.names.map((n) => ({ value: n, label: pretty[n] ?? n }))}
            popupMatchSelectWidth={false}
          />
        ) : (
          <>
            <NumberField
              label={knob.label}
              value={Number(value)}
              onCommit={set}
              share={knob.unit === "share"}
              whole={knob.kind.type === "whole"}
              step={knob.unit === "share" ? 0.1 : knob.kind.type === "real" ? 0.1 : 1}
            />
            {knob.unit === "share" && <span className="unit">%</span>}
          </>
        )}
      </span>
    </div>
  );
}

function History({ shot }: { shot: ShotView }) {
  const [open, setOpen] = useState(false);
  const revisions = useRevisions(shot.id, open);
  const act = useAct();
  const list = (
    <div className="revisions">
      {revisions.data?.map((r) => (
        <button
          key={r.number}
          className={r.current ? "current" : ""}
          onClick={() => void act(() => ask("POST", `/api/shots/${shot.id}/revisions/${r.number}`))}
        >
          <b>{r.number}</b>
          <span>{r.change}</span>
          <time>{clock(r.made)}</time>
        </button>
      ))}
    </div>
  );
  return (
    <Popover
      content={list}
      trigger="click"
      placement="bottomRight"
      open={open}
      onOpenChange={setOpen}
      title="Revisions: nothing is lost"
    >
      <Button type="text" size="small" icon={<HistoryOutlined />} aria-label="Revisions">
        revision {shot.revision}
      </Button>
    </Popover>
  );
}

function Against({ a, b, knobs }: { a: ProofView; b: ProofView; knobs: Knob[] }) {
  const comparison = useComparison(a.id, b.id, a.state + b.state);
  const c = comparison.data;
  const of = (id: string) => knobs.find((k) => k.id === id);
  return (
    <section className="against" data-testid="against">
      <h3>
        A {proofTitle(a)} <span className="second">against</span> B {proofTitle(b)}
      </h3>
      {!c && <p className="second">measuring …</p>}
      {c && (
        <table>
          <tbody>
            {c.differences.length === 0 && (
              <tr>
                <td colSpan={3} className="second">
                  the same tuning
                </td>
              </tr>
            )}
            {c.differences.map((d) => (
              <tr key={d.id}>
                <td>{d.label}</td>
                <td className="num">{valueText(of(d.id), d.a)}</td>
                <td className="num">→ {valueText(of(d.id), d.b)}</td>
              </tr>
            ))}
            {c.time_ratio !== null && (
              <tr>
                <td>B in time</td>
                <td colSpan={2} className="num" data-testid="time-ratio">
                  {ratio(c.time_ratio, "faster", "slower")}
                </td>
              </tr>
            )}
            {c.grain_ratio !== null && (
              <tr>
                <td>B in grain</td>
                <td colSpan={2} className="num">
                  {ratio(c.grain_ratio, "cleaner", "grainier")}
                </td>
              </tr>
            )}
            {c.metrics && (
              <tr>
                <td>between them</td>
                <td colSpan={2} className="num wrap">
                  RMSE {c.metrics.rmse.toPrecision(2)}, PSNR {c.metrics.psnr?.toFixed(1) ?? "∞"} dB, SSIM{" "}
                  {c.metrics.ssim?.toFixed(3) ?? "–"}
                </td>
              </tr>
            )}
          </tbody>
        </table>
      )}
    </section>
  );
}

interface Props {
  shot: ShotView;
  knobs: Knob[];
  set: (changes: Record<string, Value>) => void;
  /** The proof shown, and the one it is compared with. */
  shown: ProofView | undefined;
  other: ProofView | undefined;
}

export function TuningPanel({ shot, knobs, set, shown, other }: Props) {
  const [folded, setFolded] = useState<Group[]>([]);
  const act = useAct();
  const go = (n: number | null) =>
    n !== null && void act(() => ask("POST", `/api/shots/${shot.id}/revisions/${n}`));
  const compared = other ?? shown;
  const pixels = Number(shot.tuning["frame.width"]) * Number(shot.tuning["frame.height"]);
  return (
    <aside className="panel" aria-label="Tuning">
      <header>
        <h2>Tuning</h2>
        <span className="grow" />
        <History shot={shot} />
        <Tooltip title="Undo (Z)">
          <Button
            type="text"
            size="small"
            icon={<UndoOutlined />}
            aria-label="Undo"
            disabled={shot.undo === null}
            onClick={() => go(shot.undo)}
          />
        </Tooltip>
        <Tooltip title="Redo (Shift Z)">
          <Button
            type="text"
            size="small"
            icon={<RedoOutlined />}
            aria-label="Redo"
            disabled={shot.redo === null}
            onClick={() => go(shot.redo)}
          />
        </Tooltip>
      </header>
      <div className="panel-scroll">
        {other && shown && other.id !== shown.id && <Against a={other} b={shown} knobs={knobs} />}
        {groups.map(([group, title]) => {
          const rows = knobs.filter((k) => k.group === group);
          const changed = rows.filter((k) => shot.tuning[k.id] !== k.default);
          const fold = folded.includes(group);
          return (
            <section key={group} className="group">
              <h3>
                <button
                  onClick={() => setFolded(fold ? folded.filter((g) => g !== group) : [...folded, group])}
                  aria-expanded={!fold}
                >
                  <span className="caret">{fold ? "▸" : "▾"}</span> {title}
                </button>
                {changed.length > 0 && (
                  <button
                    className="reset-all"
                    onClick={() => set(Object.fromEntries(changed.map((k) => [k.id, k.default as Value])))}
                  >
                    {changed.length} changed ↺
                  </button>
                )}
              </h3>
              {!fold &&
                rows.map((k) => (
                  <Row
                    key={k.id}
                    knob={k}
                    value={shot.tuning[k.id] as Value}
                    set={(v) => set({ [k.id]: v })}
                    compared={compared?.tuning[k.id] as Value | undefined}
                  />
                ))}
              {!fold && group === "sampling" && (
                <p className="footnote">
                  At most {((pixels * Number(shot.tuning["sampling.most"])) / 1e6).toFixed(1)} million samples
                  for this frame.
                  {Number(shot.tuning["sampling.least"]) < 16 &&
                    shot.tuning["sampling.adaptive"] === true && (
                      <span className="caution"> Below 16 least samples rare light can be missed.</span>
                    )}
                </p>
              )}
            </section>
          );
        })}
      </div>
    </aside>
  );
}
