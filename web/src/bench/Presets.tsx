import { Button, Popover } from "antd";
import { useState } from "react";
import { useShotAct } from "../api/useShotAct";
import { useLadder, usePartials, usePreview } from "../api/queries";
import type { Knob, ShotView } from "../api/types";
import { duration, spoken } from "../app/format";
import { PartialEditor } from "../library/PartialEditor";
import { valueText, type Value } from "./values";

/** The ladder of presets with the forecast of this shot's final, and what applying one would change. */
export function Presets({ shot, knobs }: { shot: ShotView; knobs: Knob[] }) {
  const [open, setOpen] = useState(false);
  const [chosen, choose] = useState<number | null>(null);
  const [saving, setSaving] = useState(false);
  const partials = usePartials();
  const ladder = useLadder(shot.id, open);
  const preview = usePreview(shot.id, open ? chosen : null, shot.revision);
  const change = useShotAct(shot.id);
  const presets = partials.data?.filter((p) => p.kind === "preset") ?? [];
  const applied = presets.find((p) => p.id === shot.preset);
  const of = (id: string) => knobs.find((k) => k.id === id);
  const apply = async () => {
    if (await change("POST", `/presets/${chosen}`)) setOpen(false);
  };
  const rung = (id: number) => ladder.data?.find((r) => r.preset === id);
  // The size belongs to the order, not to a preset.
  const changed = Object.fromEntries(
    knobs
      .filter((k) => shot.tuning[k.id] !== k.default && k.id !== "frame.width" && k.id !== "frame.height")
      .map((k) => [k.id, shot.tuning[k.id] as Value]),
  );
  const list = (
    <div className="presets" data-testid="presets">
      {presets.map((p) => {
        const f = rung(p.id)?.forecast;
        return (
          <button
            key={p.id}
            className={`preset${chosen === p.id ? " chosen" : ""}`}
            onClick={() => choose(p.id)}
            aria-label={`Preset ${p.name}`}
          >
            <b>{p.name}</b>
            <span className="second">{p.note}</span>
            <span className={`num${f && f.seconds > shot.budget ? " over" : ""}`}>
              {f ? `${rung(p.id)?.needs_test ? "≈ " : ""}${duration(f.seconds)}` : "–"}
            </span>
          </button>
        );
      })}
      {chosen !== null && preview.data && (
        <div className="preset-changes" data-testid="preset-changes">
          {preview.data.changes.length === 0 && <p className="second">It would change nothing.</p>}
          {preview.data.changes.map((c) => (
            <div key={c.id}>
              <span>{c.label}</span>
              <span className="num">
                {valueText(of(c.id), c.a)} → {valueText(of(c.id), c.b)}
              </span>
            </div>
          ))}
        </div>
      )}
      <p className="second">Times are of this shot's final; the budget is {spoken(shot.budget)}.</p>
      <div className="preset-acts">
        <Button
          type="primary"
          size="small"
          disabled={chosen === null || preview.data?.changes.length === 0}
          onClick={() => void apply()}
        >
          Apply preset
        </Button>
        <Button size="small" onClick={() => setSaving(true)}>
          Save as preset …
        </Button>
      </div>
    </div>
  );
  return (
    <>
      <Popover content={list} trigger="click" placement="bottomRight" open={open} onOpenChange={setOpen}>
        <Button type="text" size="small" aria-label="Presets">
          {applied ? applied.name : "Presets"}
        </Button>
      </Popover>
      {saving && (
        <PartialEditor
          draft={{ kind: "preset", name: "", note: "", values: changed }}
          knobs={knobs}
          tuning={shot.tuning as Record<string, Value>}
          close={() => setSaving(false)}
        />
      )}
    </>
  );
}
