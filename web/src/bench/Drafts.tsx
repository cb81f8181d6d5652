import { EllipsisOutlined } from "@ant-design/icons";
import { Button, Dropdown, Tooltip } from "antd";
import { memo, useState } from "react";
import { useNavigate } from "react-router";
import { useShotAct } from "../api/useShotAct";
import { usePartials, useRevisions } from "../api/queries";
import type { Knob, ShotView } from "../api/types";
import { PartialEditor, type Draft } from "../library/PartialEditor";
import { valueText, type Value } from "./values";

/** Draft overlays beside the test button: any number may be on, the one put on last wins. */
export const Drafts = memo(function Drafts({ shot, knobs }: { shot: ShotView; knobs: Knob[] }) {
  const partials = usePartials();
  const revisions = useRevisions(shot.id, true);
  const change = useShotAct(shot.id);
  const go = useNavigate();
  const [editing, setEditing] = useState<Draft | null>(null);
  const overlays = partials.data?.filter((p) => p.kind === "overlay") ?? [];
  const toggle = (id: number) =>
    void change(
      "PUT",
      "/overlays",
      shot.overlays.includes(id) ? shot.overlays.filter((o) => o !== id) : [...shot.overlays, id],
    );
  const values = (ids: string[]) =>
    Object.fromEntries(ids.map((id) => [id, shot.tuning[id] as Value])) as Record<string, Value>;
  const current = revisions.data?.find((r) => r.current);
  const of = (id: string) => knobs.find((k) => k.id === id);
  return (
    <div className="drafts" role="group" aria-label="Draft overlays, for tests only">
      <div className="draft-list">
        {overlays.map((o) => {
          const at = shot.overlays.indexOf(o.id);
          const list = Object.entries(o.values).map(
            ([id, v]) => `${of(id)?.label ?? id} ${valueText(of(id), v)}`,
          );
          return (
            <Tooltip key={o.id} title={`${o.note ? `${o.note} ` : ""}${list.join(", ")}. For tests only.`}>
              <button
                className={`draft${at >= 0 ? " on" : ""}`}
                aria-pressed={at >= 0}
                aria-label={`Draft ${o.name}`}
                onClick={() => toggle(o.id)}
              >
                {at >= 0 && shot.overlays.length > 1 && <sup>{at + 1}</sup>}
                {o.name}
              </button>
            </Tooltip>
          );
        })}
      </div>
      <Dropdown
        trigger={["click"]}
        menu={{
          items: [
            {
              key: "changed",
              label: "Draft from what I changed just now",
              disabled: !current?.knobs.length,
            },
            { key: "choose", label: "Draft from chosen knobs …" },
            { key: "off", label: "All drafts off", disabled: shot.overlays.length === 0 },
            { key: "library", label: "Edit and share drafts in the library" },
          ],
          onClick: ({ key }) => {
            if (key === "changed")
              setEditing({ kind: "overlay", name: "", note: "", values: values(current?.knobs ?? []) });
            else if (key === "choose") setEditing({ kind: "overlay", name: "", note: "", values: {} });
            else if (key === "off") void change("PUT", "/overlays", []);
            else void go("/library");
          },
        }}
      >
        <Button size="small" type="text" icon={<EllipsisOutlined />} aria-label="More on drafts" />
      </Dropdown>
      {editing && (
        <PartialEditor draft={editing} knobs={knobs} tuning={shot.tuning} close={() => setEditing(null)} />
      )}
    </div>
  );
});
