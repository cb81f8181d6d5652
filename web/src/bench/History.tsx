import { EditOutlined, HistoryOutlined } from "@ant-design/icons";
import { Button, Input, Popover } from "antd";
import { useState } from "react";
import { ask } from "../api/client";
import { useShotAct } from "../api/useShotAct";
import { useRevisions } from "../api/queries";
import type { ShotView } from "../api/types";
import { clock } from "../app/format";
import { useAct } from "../app/useAct";

/** Every settled change of the shot: what changed, when; any can be restored or named. */
export function History({ shot }: { shot: ShotView }) {
  const [open, setOpen] = useState(false);
  const [naming, setNaming] = useState<number | null>(null);
  const revisions = useRevisions(shot.id, open);
  const act = useAct();
  const change = useShotAct(shot.id);
  const name = (number: number, text: string) => {
    setNaming(null);
    void act(() => ask("PATCH", `/api/shots/${shot.id}/revisions/${number}`, { name: text }));
  };
  const list = (
    <div className="revisions" data-testid="revisions">
      {revisions.data?.map((r) => (
        <div key={r.number} className={r.current ? "current" : ""}>
          <button
            aria-label={`Restore revision ${r.number}`}
            onClick={() => void change("POST", `/revisions/${r.number}`)}
          >
            <b>{r.number}</b>
            <span>
              {r.name && <em>{r.name} · </em>}
              {r.change}
            </span>
            <time>{clock(r.made)}</time>
          </button>
          <button aria-label={`Name revision ${r.number}`} onClick={() => setNaming(r.number)}>
            <EditOutlined />
          </button>
          {naming === r.number && (
            <Input
              autoFocus
              size="small"
              aria-label="Name of the revision"
              defaultValue={r.name}
              onKeyDown={(e) => e.stopPropagation()}
              onPressEnter={(e) => name(r.number, e.currentTarget.value)}
              onBlur={() => setNaming(null)}
            />
          )}
        </div>
      ))}
    </div>
  );
  return (
    <Popover
      content={list}
      trigger="click"
      placement="bottomRight"
      open={open}
      onOpenChange={setOpen}
      title="Revisions: nothing is lost"
    >
      <Button type="text" size="small" icon={<HistoryOutlined />} aria-label="Revisions">
        {shot.revision}
      </Button>
    </Popover>
  );
}
