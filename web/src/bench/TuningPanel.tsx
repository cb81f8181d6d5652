import { RedoOutlined, UndoOutlined } from "@ant-design/icons";
import { Button, Tooltip } from "antd";
import { memo, useState } from "react";
import { useShotAct } from "../api/useShotAct";
import { usePartials, usePrices } from "../api/queries";
import type { Group, InForce, Knob, PricesView, ProofView, ShotView } from "../api/types";
import { count } from "../app/format";
import { CompareTable } from "./CompareTable";
import type { Look, Seen } from "./look";
import { FilterHelp } from "./FilterHelp";
import { ViewTable } from "./ViewTable";
import { groups } from "./groups";
import { History } from "./History";
import { inTable, PathsTable } from "./PathsTable";
import { Presets } from "./Presets";
import { PriceTag } from "./Price";
import { ValueField } from "./ValueField";
import { valueIn, valueText, type Value } from "./values";

interface RowProps {
  knob: Knob;
  value: Value;
  change: (changes: Record<string, Value>) => void;
  /** Values elsewhere, where they are known: of the compared proof and of the applied preset. */
  compared: Value | undefined;
  preset: Value | undefined;
  force: InForce | undefined;
  prices: PricesView | null | undefined;
}

const Row = memo(function Row({ knob, value, change, compared, preset, force, prices }: RowProps) {
  const set = (v: Value) => change({ [knob.id]: v });
  const changed = value !== knob.default;
  const apart = compared !== undefined && compared !== value;
  const off = preset !== undefined && preset !== value;
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
    <div
      className={`knob${changed ? " changed" : ""}${apart ? " apart" : ""}${force ? " drafted" : ""}`}
      data-knob={knob.id}
    >
      <Tooltip title={help} placement="left" mouseEnterDelay={0.4}>
        <span className="knob-label">
          {knob.label}
          {knob.unit && knob.unit !== "share" && <span className="second"> {knob.unit}</span>}
        </span>
      </Tooltip>
      <span className="knob-mark">
        {off && (
          <Tooltip title={`The applied preset has ${valueText(knob, preset)}; press to go back to it`}>
            <button aria-label={`${knob.label} as in the preset`} onClick={() => set(preset)}>
              ◇
            </button>
          </Tooltip>
        )}
        {apart && (
          <Tooltip title={`The compared proof has ${valueText(knob, compared)}; press to take it`}>
            <button
              className="slate"
              aria-label={`${knob.label} as in the compared proof`}
              onClick={() => set(compared)}
            >
              ≠
            </button>
          </Tooltip>
        )}
        {changed && (
          <Tooltip title={`Back to the default, ${valueText(knob, knob.default)}`}>
            <button aria-label={`Reset ${knob.label}`} onClick={() => set(knob.default as Value)}>
              ↺
            </button>
          </Tooltip>
        )}
      </span>
      <span className="knob-value">
        <ValueField knob={knob} value={value} set={set} />
      </span>
      <PriceTag knob={knob} view={prices} />
      {force && (
        <span className="knob-force" data-force={knob.id}>
          {`tests: ${valueText(knob, force.value)} by ${force.whose}`}
        </span>
      )}
    </div>
  );
});

interface Props {
  shot: ShotView;
  knobs: Knob[];
  set: (changes: Record<string, Value>) => void;
  /** All proofs that are compared, A first; the shown one alone when none is. */
  compared: Seen[];
  referenceLook: Look;
  reference: ProofView | undefined;
}

export const TuningPanel = memo(function TuningPanel({
  shot,
  knobs,
  set,
  compared,
  reference,
  referenceLook,
}: Props) {
  const [folded, setFolded] = useState<Group[]>([]);
  const partials = usePartials();
  const change = useShotAct(shot.id);
  const go = (n: number | null) => n !== null && void change("POST", `/revisions/${n}`);
  const prices = usePrices(shot.id).data;
  const other = compared[0]?.proof;
  const shown = (compared[1] ?? compared[0])?.proof;
  const preset = partials.data?.find((p) => p.id === shot.preset);
  const defaults = (list: Knob[]) =>
    set(
      Object.fromEntries(
        list.filter((k) => shot.tuning[k.id] !== k.default).map((k) => [k.id, k.default as Value]),
      ),
    );
  // The size belongs to the order, not to the tuning's taste: resetting all leaves it.
  const all = knobs.filter((k) => k.id !== "frame.width" && k.id !== "frame.height");
  const changedAll = all.filter((k) => shot.tuning[k.id] !== k.default).length;
  return (
    <aside className="panel" aria-label="Tuning">
      <header>
        <h2>Tuning</h2>
        <span className="grow" />
        <Presets shot={shot} knobs={knobs} />
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
        {(compared.length > 1 || reference) && (
          <CompareTable sides={compared} reference={reference} referenceLook={referenceLook} knobs={knobs} />
        )}
        {changedAll > 0 && (
          <button className="reset-everything" onClick={() => defaults(all)}>
            {`${changedAll === 1 ? "1 knob differs from its default" : `${changedAll} knobs differ from their defaults`} · reset all ↺`}
          </button>
        )}
        {groups.map(([group, title]) => {
          // The table of paths holds splits, depths and clamps, whatever their groups.
          const own = (k: Knob) =>
            k.id !== "view.table" && (inTable.has(k.id) ? group === "paths" : k.group === group);
          const rows = knobs.filter(own);
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
                    aria-label={`Reset ${title}`}
                    onClick={() => defaults(changed)}
                  >
                    {changed.length} changed ↺
                  </button>
                )}
              </h3>
              {!fold &&
                rows
                  .filter((k) => !inTable.has(k.id))
                  .map((k) => (
                    <Row
                      key={k.id}
                      knob={k}
                      value={shot.tuning[k.id] as Value}
                      change={set}
                      compared={valueIn(other, k)}
                      preset={preset?.values[k.id] as Value | undefined}
                      force={shot.in_force.find((f) => f.id === k.id)}
                      prices={prices}
                    />
                  ))}
              {!fold && group === "paths" && (
                <PathsTable
                  shot={shot}
                  knobs={knobs}
                  set={set}
                  prices={prices}
                  rays={shown?.report?.rays}
                  other={other}
                />
              )}
              {!fold && group === "frame" && (
                <FilterHelp
                  filter={String(shot.tuning["frame.filter"])}
                  radius={Number(shot.tuning["frame.filter_radius"])}
                />
              )}
              {!fold && group === "view" && (
                <ViewTable
                  value={Number(shot.tuning["view.table"])}
                  on={shot.tuning["view.transform"] === "table"}
                  set={set}
                />
              )}
              {!fold && group === "sampling" && (
                <p className="footnote">
                  {`At most ${count(shot.most_samples)} samples for this frame of ${shot.rendered[0]} × ${shot.rendered[1]} rendered pixels.`}
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
});
