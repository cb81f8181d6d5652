import { DeleteOutlined } from "@ant-design/icons";
import { Input, Modal, Select } from "antd";
import { useState } from "react";
import { ask } from "../api/client";
import type { Group, Knob, PartialKind, PartialView } from "../api/types";
import { useAct } from "../app/useAct";
import { groups } from "../bench/groups";
import { ValueField } from "../bench/ValueField";
import { type Value } from "../bench/values";

export interface Draft {
  /** Absent for a new one. */
  id?: number;
  kind: PartialKind;
  name: string;
  note: string;
  values: Record<string, Value>;
}

interface Props {
  draft: Draft;
  knobs: Knob[];
  /** Where added knobs take their first value from; the defaults without one. */
  tuning?: Record<string, Value>;
  close: () => void;
}

/** Makes or changes a draft overlay or a preset: a name and some knobs with their values. */
export function PartialEditor({ draft, knobs, tuning, close }: Props) {
  const [name, setName] = useState(draft.name);
  const [note, setNote] = useState(draft.note);
  const [values, setValues] = useState(draft.values);
  const act = useAct();
  const what = draft.kind === "overlay" ? "draft overlay" : "preset";
  const first = (k: Knob) => (tuning?.[k.id] ?? k.default) as Value;
  const add = (list: Knob[]) =>
    setValues((v) => ({ ...Object.fromEntries(list.map((k) => [k.id, first(k)])), ...v }));
  const chosen = knobs.filter((k) => k.id in values);
  const save = async () => {
    const done = await act(() =>
      draft.id === undefined
        ? ask<PartialView>("POST", "/api/partials", { kind: draft.kind, name, note, values })
        : ask<PartialView>("PATCH", `/api/partials/${draft.id}`, { name, note, values }),
    );
    if (done) close();
  };
  return (
    <Modal
      open
      title={draft.id === undefined ? `New ${what}` : `Edit ${what}`}
      okText="Save"
      okButtonProps={{ disabled: !name.trim() || chosen.length === 0 }}
      onOk={() => void save()}
      onCancel={close}
      width={520}
    >
      <div className="partial-form" onKeyDown={(e) => e.stopPropagation()}>
        <Input
          autoFocus
          placeholder="Name"
          aria-label={`Name of the ${what}`}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Input
          placeholder="Note"
          aria-label={`Note on the ${what}`}
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
        <div className="partial-add">
          <Select
            showSearch={{ optionFilterProp: "label" }}
            placeholder="Add a knob"
            aria-label="Add a knob"
            value={null}
            options={knobs.filter((k) => !(k.id in values)).map((k) => ({ value: k.id, label: k.label }))}
            onChange={(id: string | null) => add(knobs.filter((k) => k.id === id))}
          />
          <Select
            placeholder="Add a group"
            aria-label="Add a group"
            value={null}
            options={groups.map(([value, label]) => ({ value, label }))}
            onChange={(g: Group | null) => add(knobs.filter((k) => k.group === g))}
          />
        </div>
        <div className="partial-values">
          {chosen.length === 0 && (
            <p className="second">Choose the knobs that it sets; all others stay untouched.</p>
          )}
          {chosen.map((k) => (
            <div key={k.id} className="partial-value">
              <span>
                {k.label} <span className="second">{k.unit !== "share" && k.unit}</span>
              </span>
              <span className="knob-value">
                <ValueField
                  knob={k}
                  value={values[k.id] as Value}
                  set={(v) => setValues((all) => ({ ...all, [k.id]: v }))}
                />
              </span>
              <button
                aria-label={`Leave out ${k.label}`}
                onClick={() =>
                  setValues((all) => Object.fromEntries(Object.entries(all).filter(([id]) => id !== k.id)))
                }
              >
                <DeleteOutlined />
              </button>
            </div>
          ))}
        </div>
      </div>
    </Modal>
  );
}
