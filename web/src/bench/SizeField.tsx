import { LinkOutlined, DisconnectOutlined } from "@ant-design/icons";
import { Button, Popover, Select, Tooltip } from "antd";
import { memo, useEffect, useState } from "react";
import { get } from "../api/client";
import { usePapers } from "../api/queries";
import type { ShotView, Unit } from "../api/types";
import { count } from "../app/format";
import { useAct } from "../app/useAct";
import { NumberField } from "./NumberField";
import type { Value } from "./values";

const common: [number, number][] = [
  [960, 540],
  [1280, 720],
  [1920, 1080],
  [2560, 1440],
  [3840, 2160],
  [1080, 1080],
  [1080, 1920],
  [3000, 2000],
];

interface Sides {
  width: number;
  height: number;
}

/** The size of the frame: pixels with aspect lock, common sizes, from print and back, and oversize. */
export const SizeField = memo(function SizeField({
  shot,
  set,
}: {
  shot: ShotView;
  set: (changes: Record<string, Value>) => void;
}) {
  const [open, setOpen] = useState(false);
  const [locked, setLocked] = useState(true);
  const [width, height] = [Number(shot.tuning["frame.width"]), Number(shot.tuning["frame.height"])];
  const oversize = Number(shot.tuning["frame.oversize"]);
  const size = (w: number, h: number) => set({ "frame.width": Math.round(w), "frame.height": Math.round(h) });
  const content = (
    <div className="size-form" data-testid="size-form" onKeyDown={(e) => e.stopPropagation()}>
      <div className="size-line">
        <NumberField
          label="Frame width"
          whole
          value={width}
          onCommit={(w) => size(w, locked ? (w * height) / width : height)}
        />
        <Tooltip title={locked ? "The shape is kept" : "Both sides are free"}>
          <Button
            size="small"
            type="text"
            aria-label={locked ? "Free both sides" : "Keep the shape"}
            icon={locked ? <LinkOutlined /> : <DisconnectOutlined />}
            onClick={() => setLocked(!locked)}
          />
        </Tooltip>
        <NumberField
          label="Frame height"
          whole
          value={height}
          onCommit={(h) => size(locked ? (h * width) / height : width, h)}
        />
        <Select
          size="small"
          placeholder="common sizes"
          aria-label="Common sizes"
          value={null}
          popupMatchSelectWidth={false}
          options={common.map(([w, h]) => ({ value: `${w} ${h}`, label: `${w} × ${h}` }))}
          onChange={(v: string | null) => {
            const [w, h] = (v ?? "").split(" ").map(Number);
            if (w && h) size(w, h);
          }}
        />
      </div>
      {open && (
        <Print
          width={width}
          height={height}
          dpi={Number(shot.tuning["delivery.dpi"])}
          setDpi={(dpi) => set({ "delivery.dpi": dpi })}
          locked={locked}
          size={size}
        />
      )}
      <div className="size-line">
        <span>Oversize</span>
        <NumberField
          label="Oversize factor"
          value={oversize}
          step={0.25}
          onCommit={(v) => set({ "frame.oversize": v })}
        />
        <span className="second">
          {`renders ${shot.rendered[0]} × ${shot.rendered[1]}, delivers ${width} × ${height}`}
        </span>
      </div>
      <p className="second">
        {`At most ${count(shot.most_samples)} samples for the whole frame, ${String(shot.tuning["sampling.most"])} a rendered pixel.`}
      </p>
    </div>
  );
  return (
    <Popover content={content} trigger="click" open={open} onOpenChange={setOpen} placement="bottomLeft">
      <button className="plain-button" aria-label="Size of the frame">
        {`${width} × ${height} px${oversize === 1 ? "" : ` at ${oversize} ×`}`}
      </button>
    </Popover>
  );
});

/** The size on paper. With the link on its millimetres stay when the dots change, else the pixels do. */
function Print({
  width,
  height,
  dpi,
  setDpi,
  locked,
  size,
}: {
  width: number;
  height: number;
  dpi: number;
  setDpi: (dpi: number) => void;
  locked: boolean;
  size: (w: number, h: number) => void;
}) {
  const papers = usePapers();
  const act = useAct();
  const [unit, setUnit] = useState<Unit>("mm");
  const [paper, setPaper] = useState<Sides | null>(null);
  const [pixels, setPixels] = useState<Sides | null>(null);
  const ask = (s: Sides, back: boolean) =>
    get<Sides>(
      `/api/paper?unit=${unit}&dpi=${dpi}&width=${s.width}&height=${s.height}${back ? "&pixels=true" : ""}`,
    );
  // The frame as it is, on paper; once sides were chosen there, the pixels follow from these.
  const chosen = pixels !== null;
  useEffect(() => {
    if (chosen) return;
    let alive = true;
    void get<Sides>(`/api/paper?unit=${unit}&dpi=${dpi}&width=${width}&height=${height}&pixels=true`).then(
      (s) => {
        if (alive) setPaper(s);
      },
    );
    return () => {
      alive = false;
    };
  }, [width, height, unit, dpi, chosen]);
  const print = async (s: Sides) => {
    const found = await act(() => ask(s, false));
    if (found) {
      setPaper(s);
      setPixels(found);
    }
  };
  const change = (dpi: number) => {
    setDpi(dpi);
    if (!locked) return setPixels(null);
    // The millimetres stay.
    if (paper)
      void act(() =>
        get<Sides>(`/api/paper?unit=${unit}&dpi=${dpi}&width=${paper.width}&height=${paper.height}`),
      ).then((found) => found && setPixels(found));
  };
  const factor = { mm: 1, cm: 10, inch: 25.4 }[unit];
  const shown = (v: number) => Number(v.toFixed(unit === "mm" ? 0 : 2));
  return (
    <div className="print">
      <div className="size-line">
        <span>On paper</span>
        <NumberField
          label="Print width"
          value={shown(paper?.width ?? 0)}
          onCommit={(w) => void print({ width: w, height: paper?.height ?? w })}
        />
        ×
        <NumberField
          label="Print height"
          value={shown(paper?.height ?? 0)}
          onCommit={(h) => void print({ width: paper?.width ?? h, height: h })}
        />
        <Select<Unit>
          size="small"
          value={unit}
          aria-label="Unit of the print"
          onChange={setUnit}
          options={(["mm", "cm", "inch"] as const).map((value) => ({ value, label: value }))}
        />
        at
        <NumberField label="Dots per inch" value={dpi} onCommit={change} />
        dpi
      </div>
      <div className="size-line">
        <Select
          size="small"
          placeholder="paper"
          aria-label="Paper"
          value={null}
          popupMatchSelectWidth={false}
          options={(papers.data ?? []).flatMap((p) => [
            { value: `${p.width} ${p.height}`, label: `${p.name} upright` },
            { value: `${p.height} ${p.width}`, label: `${p.name} lying` },
          ])}
          onChange={(v: string | null) => {
            const [w, h] = (v ?? "").split(" ").map(Number);
            if (w && h) void print({ width: w / factor, height: h / factor });
          }}
        />
        {pixels && (
          <Button
            size="small"
            type="primary"
            onClick={() => {
              size(pixels.width, pixels.height);
              setPixels(null);
            }}
          >
            {`Use ${pixels.width} × ${pixels.height} px`}
          </Button>
        )}
      </div>
    </div>
  );
}
