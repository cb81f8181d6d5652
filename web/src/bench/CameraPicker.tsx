import { Popover } from "antd";
import { memo, useState } from "react";
import type { ShotView } from "../api/types";

/** The cameras of the scene, each with a small rendered picture. */
export const CameraPicker = memo(function CameraPicker({
  shot,
  choose,
}: {
  shot: ShotView;
  choose: (camera: string) => void;
}) {
  const [open, setOpen] = useState(false);
  const list = (
    <div className="cameras" data-testid="cameras">
      {shot.cameras.map((c) => (
        <button
          key={c}
          className={c === shot.camera ? "chosen" : ""}
          aria-label={`Camera ${c}`}
          onClick={() => {
            setOpen(false);
            if (c !== shot.camera) choose(c);
          }}
        >
          <img src={`/api/shots/${shot.id}/glance?camera=${encodeURIComponent(c)}`} alt="" />
          <span>{c}</span>
        </button>
      ))}
    </div>
  );
  return (
    <Popover content={list} trigger="click" open={open} onOpenChange={setOpen} placement="bottomLeft">
      <button className="plain-button" aria-label="Camera">
        {shot.camera} ▾
      </button>
    </Popover>
  );
});
