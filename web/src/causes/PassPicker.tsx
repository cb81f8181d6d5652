import { Select } from "antd";
import { useLedger } from "../api/queries";
import type { Layer, ProofView } from "../api/types";
import { partName, picturePass, type Pass } from "./names";
import { endedTest } from "./ended";

const more: [Layer, string][] = [
  ["shadow", "Shadow"],
  ["depth", "Depth"],
  ["clipped", "Clipped by the display"],
];

/** The other passes of a proof: parts and lights alone, shadow and depth. */
export function PassPicker({
  proof,
  pass,
  choose,
}: {
  proof: ProofView | undefined;
  pass: Pass;
  choose: (p: Pass) => void;
}) {
  const ended = endedTest(proof);
  const noise = useLedger(ended?.id ?? null, ended?.report?.samples ?? 0, null).data?.noise;
  const names = (rows: { name: string }[]) =>
    rows
      .map((r) => ({ value: r.name, label: partName(r.name) }))
      .sort((a, b) => a.label.localeCompare(b.label));
  const value = pass.part || (more.some(([l]) => l === pass.layer) ? pass.layer : null);
  return (
    <Select
      size="small"
      variant="borderless"
      className="pass-picker"
      placeholder="more passes"
      value={value}
      allowClear
      disabled={!noise}
      aria-label="More passes"
      popupMatchSelectWidth={false}
      onChange={(v: string | undefined) => {
        const layer = more.find(([l]) => l === v)?.[0];
        choose(layer ? { layer, part: "" } : v ? { layer: "part", part: v } : picturePass);
      }}
      options={
        noise
          ? [
              { label: "Parts", options: names(noise.parts) },
              { label: "Lights", options: names(noise.lights) },
              { label: "Others", options: more.map(([v, label]) => ({ value: v as string, label })) },
            ]
          : []
      }
    />
  );
}
