import { LockOutlined, UnlockOutlined } from "@ant-design/icons";
import { Button, Dropdown, Input, Popover, Tooltip } from "antd";
import { memo, useState } from "react";
import { ask } from "../api/client";
import { useRegions } from "../api/queries";
import type { Brief, ProofView, Region } from "../api/types";
import { duration } from "../app/format";
import { useAct } from "../app/useAct";
import { NumberField } from "./NumberField";
import { fitted } from "./region";

interface Props {
  shot: number;
  region: Region | null;
  /** As typed or chosen from those remembered. */
  put: (r: Region | null) => void;
  locked: boolean;
  lock: (on: boolean) => void;
  frame: [number, number];
  started: (proof: ProofView) => void;
}

export const RegionBar = memo(function RegionBar({ shot, region, put, locked, lock, frame, started }: Props) {
  const regions = useRegions(shot);
  const [name, setName] = useState("");
  const [naming, setNaming] = useState(false);
  const [asking, setAsking] = useState<Brief | null | undefined>(undefined);
  const act = useAct();
  const field = (k: keyof Region, label: string) =>
    region && (
      <NumberField
        label={label}
        whole
        disabled={locked}
        value={region[k]}
        onCommit={(v) => put(fitted({ ...region, [k]: v }, frame))}
      />
    );
  const remember = async () => {
    setNaming(false);
    if (region && name.trim()) await act(() => ask("POST", `/api/shots/${shot}/regions`, { name, region }));
    setName("");
  };
  const body = { region: region ?? undefined };
  const price = async () => {
    const f = await act(() => ask<Brief | null>("POST", `/api/shots/${shot}/reference/forecast`, body));
    if (f !== undefined) setAsking(f);
  };
  const make = async () => {
    setAsking(undefined);
    const proof = await act(() => ask<ProofView>("POST", `/api/shots/${shot}/reference`, body));
    if (proof) started(proof);
  };
  return (
    <span className="region-bar">
      {region ? (
        <>
          Region {field("x", "Region x")}
          {field("y", "Region y")} <span className="second">size</span> {field("width", "Region width")}
          {field("height", "Region height")}
          <Tooltip title={locked ? "Locked: drags and arrows leave it alone" : "Lock the region"}>
            <Button
              size="small"
              type="text"
              aria-label={locked ? "Unlock the region" : "Lock the region"}
              icon={locked ? <LockOutlined /> : <UnlockOutlined />}
              onClick={() => lock(!locked)}
            />
          </Tooltip>
          <Tooltip title="Forget the region (W)">
            <Button
              size="small"
              onClick={() => {
                lock(false);
                put(null);
              }}
            >
              Whole frame
            </Button>
          </Tooltip>
        </>
      ) : (
        <span className="second">Drag on the picture for a region</span>
      )}
      <Dropdown
        trigger={["click"]}
        menu={{
          items: [
            ...(regions.data ?? []).map((r) => ({
              key: `go ${r.id}`,
              label: r.name,
            })),
            { type: "divider" as const },
            { key: "keep", label: "Remember this region …", disabled: !region },
            {
              key: "forget",
              label: "Forget one",
              disabled: !regions.data?.length,
              children: (regions.data ?? []).map((r) => ({ key: `drop ${r.id}`, label: r.name })),
            },
            { type: "divider" as const },
            {
              key: "reference",
              label: region ? "Make a reference of this region …" : "Make a reference of the whole frame …",
            },
          ],
          onClick: ({ key }) => {
            const [verb, id] = key.split(" ");
            const found = regions.data?.find((r) => String(r.id) === id);
            if (verb === "keep") setNaming(true);
            else if (verb === "reference") void price();
            else if (verb === "go" && found) {
              const [x, y, w, h] = found.place;
              lock(false);
              put(
                fitted(
                  { x: x * frame[0], y: y * frame[1], width: w * frame[0], height: h * frame[1] },
                  frame,
                ),
              );
            } else if (verb === "drop") void act(() => ask("DELETE", `/api/shots/${shot}/regions/${id}`));
          },
        }}
      >
        <Button size="small" aria-label="Regions">
          Regions ▾
        </Button>
      </Dropdown>
      <Popover
        open={naming}
        onOpenChange={setNaming}
        trigger="click"
        content={
          <Input
            autoFocus
            size="small"
            placeholder="Name of the region"
            aria-label="Name of the region"
            value={name}
            onChange={(e) => setName(e.target.value)}
            onKeyDown={(e) => e.stopPropagation()}
            onPressEnter={() => void remember()}
          />
        }
      >
        <span />
      </Popover>
      <Popover
        open={asking !== undefined}
        onOpenChange={(open) => !open && setAsking(undefined)}
        trigger="click"
        placement="bottom"
        content={
          <div className="reference-ask">
            <p>
              A reference is rendered with another seed than the shot's, until its grain is a fifth of the
              threshold.
            </p>
            <p>
              {asking
                ? `It should take ${duration(asking.seconds)} (${duration(asking.low)} to ${duration(asking.high)}).`
                : "How long it takes is not known before a test has ended."}
            </p>
            <Button type="primary" size="small" onClick={() => void make()}>
              Make reference
            </Button>
          </div>
        }
      >
        <span />
      </Popover>
    </span>
  );
});
