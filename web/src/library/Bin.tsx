import { App, Button } from "antd";
import { ask } from "../api/client";
import { useBin } from "../api/queries";
import type { BinEntry, BinItem, BinKind } from "../api/types";
import { clock, size } from "../app/format";
import { useAct } from "../app/useAct";

const kinds: Record<BinKind, string> = {
  shot: "shot with its proofs and finals",
  proof: "proof",
  final: "final",
  scene: "scene",
  environment: "environment",
  table: "view table",
  partial: "draft overlay or preset",
};

const item = ({ kind, key }: BinEntry): BinItem => ({ kind, key });

/** What was deleted, with the way back. */
export function Bin() {
  const bin = useBin().data ?? [];
  const act = useAct();
  const { modal } = App.useApp();
  const bytes = bin.reduce((s, e) => s + e.bytes, 0);
  const empty = (items: BinItem[], what: string) =>
    void modal.confirm({
      title: `Remove ${what} for good?`,
      content: "It cannot be brought back after that. What shots, proofs or finals still refer to stays.",
      okText: "Remove for good",
      okButtonProps: { danger: true },
      onOk: () => act(() => ask("POST", "/api/bin/empty", { items })),
    });
  return (
    <section className="library-part" data-testid="bin">
      <header>
        <div>
          <h2>Bin</h2>
          <p className="second">
            {bin.length === 0
              ? "Nothing lies in it. What you delete comes here first."
              : `${bin.length} deleted, ${size(bytes)}. Proofs leave it sooner when their room is full.`}
          </p>
        </div>
        <span className="grow" />
        {bin.length > 0 && <Button onClick={() => empty([], "all of it")}>Empty the bin</Button>}
      </header>
      <ul>
        {bin.map((e) => (
          <li key={`${e.kind} ${e.key}`}>
            <div>
              <b>{e.name}</b>
              <p className="second">
                {`${kinds[e.kind]}${e.bytes > 0 ? ` · ${size(e.bytes)}` : ""} · deleted ${clock(e.deleted)}, stays until ${new Date(e.goes * 1000).toLocaleDateString()}`}
              </p>
            </div>
            <span className="acts">
              <button
                aria-label={`Take ${e.name} out of the bin`}
                onClick={() => void act(() => ask("POST", "/api/bin/restore", { items: [item(e)] }))}
              >
                Take out
              </button>
              <button
                aria-label={`Remove ${e.name} for good`}
                onClick={() => empty([item(e)], `“${e.name}”`)}
              >
                Remove
              </button>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
