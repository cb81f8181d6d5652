import { Segmented, Tooltip } from "antd";
import { useState } from "react";
import { useLedger } from "../api/queries";
import type { DepthKind, ProofView, ShotView } from "../api/types";
import { count, duration, percent } from "../app/format";
import type { Value } from "../bench/values";
import { DepthChart } from "./DepthChart";
import { endedTest, whyNone } from "./ended";

const kinds: Record<DepthKind, [label: string, knob: string]> = {
  all: ["All bounces", "depth.total"],
  diffuse: ["Diffuse", "depth.diffuse"],
  reflection: ["Reflection", "depth.reflection"],
  transmission: ["Transmission", "depth.transmission"],
  volume: ["Volume", "depth.volume"],
};

const lost = (steps: number) => (steps === 0 ? "nothing" : `${steps.toFixed(steps < 9.95 ? 2 : 0)} steps`);

interface Props {
  shot: ShotView;
  proof: ProofView | undefined;
  set: (changes: Record<string, Value>) => void;
}

/** The depth ledger: what each bounce costs and brings, and what would be lost if the depth ended there. */
export function Bounces({ shot, proof, set }: Props) {
  const [kind, setKind] = useState<DepthKind>("all");
  const ended = endedTest(proof);
  const ledger = useLedger(ended?.id ?? null, ended?.report?.samples ?? 0, null).data;
  const tables = ledger?.ledgers.depth ?? [];
  const table = tables.find((t) => t.kind === kind) ?? tables[0];
  if (!ledger || !table || table.rows.length === 0)
    return (
      <p className="empty">
        {ledger
          ? "This proof has no depth ledger: test again."
          : whyNone(proof, "what each bounce costs and brings")}
      </p>
    );
  const knob = kinds[table.kind][1];
  const limit = Number(shot.tuning[knob]);
  return (
    <div className="causes">
      <div className="causes-head">
        <Segmented<DepthKind>
          size="small"
          value={table.kind}
          onChange={setKind}
          options={tables.map((t) => ({ value: t.kind, label: kinds[t.kind][0] }))}
        />
        <span className="depth-key">
          <i className="depth-time" /> time <i className="depth-light" /> light, on a fourth-root scale
        </span>
        <span className="grow" />
        <span className="second">
          {table.kind === "all"
            ? "losses are exact for these samples"
            : "losses hold in the mean: other kinds are then drawn more often"}
        </span>
      </div>
      <div className="bounces">
        <DepthChart table={table} limit={limit} />
        <table className="ledger" data-testid="depth-ledger">
          <thead>
            <tr>
              <th>Bounce</th>
              <th>rays</th>
              <th>time</th>
              <th>light</th>
              <th className="num">
                <Tooltip title="Steps of 255 on the display that would be lost if the depth ended here, on average">
                  lost if it ended here
                </Tooltip>
              </th>
              <th className="num">
                <Tooltip title="All but 1 % of the picture loses no more than this, in steps of 255, block by block">
                  99 % below
                </Tooltip>
              </th>
              <th className="num">worst spot</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {table.rows.map((r) => (
              <tr key={r.bounces} className={r.bounces === limit ? "chosen" : ""}>
                <td className="num">{r.bounces}</td>
                <td className="num">{count(r.rays)}</td>
                <td className="num">
                  {percent(r.time)} <span className="second">{duration(r.time * ledger.seconds)}</span>
                </td>
                <td className="num">{percent(r.light, 2)}</td>
                <td className="num">{lost(r.loss.mean)}</td>
                <td className="num">{lost(r.loss.most)}</td>
                <td className="num">{lost(r.loss.worst)}</td>
                <td>
                  {r.bounces === limit ? (
                    <span className="second">is set</span>
                  ) : (
                    <button onClick={() => set({ [knob]: r.bounces })} aria-label={`End after ${r.bounces}`}>
                      end here
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}
