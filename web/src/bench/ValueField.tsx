import { Select, Switch } from "antd";
import type { Knob } from "../api/types";
import { percent } from "../app/format";
import { NumberField } from "./NumberField";

export type Value = number | boolean | string;

const pretty: Record<string, string> = {
  gaussian: "Gaussian",
  blackman_harris: "Blackman–Harris",
  mitchell_netravali: "Mitchell–Netravali",
  lanczos: "Lanczos",
  srgb: "sRGB",
  shoulder: "soft shoulder",
  quick: "quick guided",
  colour: "colour only",
};

export function valueText(knob: Knob | undefined, v: unknown): string {
  if (v === null || v === undefined) return "unknown";
  if (typeof v === "boolean") return v ? "on" : "off";
  if (typeof v === "number" && knob?.unit === "share") return percent(v, v < 0.1 ? 2 : 0);
  return pretty[String(v)] ?? String(v);
}

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
