import { Checkbox, Input, InputNumber, Modal, Radio, Select, Spin } from "antd";
import { useDeferredValue, useState } from "react";
import { useFinalCheck, useSettings } from "../api/queries";
import type { NewFinal, Region, ShotView } from "../api/types";
import { spoken } from "../app/format";

interface Props {
  shot: ShotView;
  region: Region | null;
  start: (wanted: NewFinal) => void;
  close: () => void;
}

/** What is ordered, and what is checked before it starts. */
export function FinalDialog({ shot, region, start, close }: Props) {
  const [policy, setPolicy] = useState<"cleanness" | "time">("cleanness");
  const [cameras, setCameras] = useState([shot.camera]);
  const [moving, setMoving] = useState(false);
  const [series, setSeries] = useState({ frames: 48, first: 0, last: 47, step: 1, padding: 4 });
  const settings = useSettings().data;
  /** What was typed in place of the patterns of the last order. */
  const [typed, setTyped] = useState<{ single?: string; series?: string }>({});
  const naming = moving
    ? (typed.series ?? settings?.naming_series ?? "")
    : (typed.single ?? settings?.naming ?? "");
  const wanted: NewFinal = { policy, cameras, naming, ...(moving ? { series } : {}) };
  const checks = useFinalCheck(shot.id, shot.revision, { ...wanted, naming: useDeferredValue(naming) });
  const number = (key: keyof typeof series, label: string, least: number) => (
    <label>
      {label}{" "}
      <InputNumber
        size="small"
        aria-label={label}
        value={series[key]}
        min={least}
        onChange={(v) => v !== null && setSeries({ ...series, [key]: v })}
      />
    </label>
  );
  return (
    <Modal
      open
      width={640}
      title={`Start the final of ${shot.name}`}
      okText={
        moving ? "Start the series" : cameras.length > 1 ? `Start ${cameras.length} finals` : "Start final"
      }
      onOk={() => start(wanted)}
      onCancel={close}
    >
      <div className="order">
        <Radio.Group value={policy} onChange={(e) => setPolicy(e.target.value as typeof policy)}>
          <Radio value="cleanness">
            Hold the cleanness{" "}
            <span className="second">goes on to the threshold, warns when it gets late</span>
          </Radio>
          <Radio value="time">
            Hold the time{" "}
            <span className="second">
              ends within {spoken(shot.budget)}; what is left goes where grain is worst
            </span>
          </Radio>
        </Radio.Group>
        {shot.cameras.length > 1 && (
          <label className="order-cameras">
            {moving ? "stations of the move" : "cameras"}{" "}
            <Select
              mode="multiple"
              aria-label="Cameras"
              value={cameras}
              onChange={(c) => c.length > 0 && setCameras(c)}
              options={shot.cameras.map((c) => ({ value: c, label: c }))}
            />
          </label>
        )}
        <Checkbox checked={moving} onChange={(e) => setMoving(e.target.checked)}>
          numbered series
        </Checkbox>
        {moving && (
          <div className="order-series">
            {number("frames", "length", 1)}
            {number("first", "from", 0)}
            {number("last", "to", 0)}
            {number("step", "step", 1)}
            {number("padding", "digits", 1)}
          </div>
        )}
        <label className="order-naming">
          file names{" "}
          <Input
            size="small"
            aria-label="File names"
            value={naming}
            onChange={(e) => setTyped({ ...typed, [moving ? "series" : "single"]: e.target.value })}
          />
          <span className="second">
            {"{shot} {camera} {frame} {final} {revision} {width} {height}; digits like {final:3}"}
          </span>
        </label>
      </div>
      {checks.isPending && <Spin size="small" />}
      {checks.error && <p className="over">{checks.error.message}</p>}
      <table className="checks" data-testid="checks">
        <tbody>
          {region && (
            <tr>
              <td>region</td>
              <td>for tests only, ignored</td>
              <td />
            </tr>
          )}
          {checks.data?.map((c) => (
            <tr key={c.what} className={c.fine ? "" : "over"} data-testid={`check-${c.what}`}>
              <td>{c.what}</td>
              <td>{c.state}</td>
              <td>{c.fine ? "✓" : "look"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Modal>
  );
}
