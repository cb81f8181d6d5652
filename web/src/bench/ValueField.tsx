import { Select, Switch } from "antd";
import type { Knob } from "../api/types";
import { NumberField } from "./NumberField";
import { pretty, type Value } from "./values";

/** The field in which a knob's value is set, by the kind of the knob. */
export function ValueField({ knob, value, set }: { knob: Knob; value: Value; set: (v: Value) => void }) {
  if (knob.kind.type === "switch")
    return <Switch size="small" checked={value === true} onChange={set} aria-label={knob.label} />;
  if (knob.kind.type === "choice")
    return (
      <Select
        size="small"
        value={String(value)}
        onChange={set}
        aria-label={knob.label}
        options={knob.kind.names.map((n) => ({ value: n, label: pretty[n] ?? n }))}
        popupMatchSelectWidth={false}
      />
    );
  return (
    <>
      <NumberField
        label={knob.label}
        value={Number(value)}
        onCommit={set}
        share={knob.unit === "share"}
        whole={knob.kind.type === "whole"}
        step={knob.kind.type === "real" ? 0.1 : 1}
      />
      {knob.unit === "share" && <span className="unit">%</span>}
    </>
  );
}
