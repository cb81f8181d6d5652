import { DownOutlined, UpOutlined } from "@ant-design/icons";
import { Button, Tooltip } from "antd";
import { useState, type ReactNode } from "react";

export type TrayTab = "proofs" | "causes" | "bounces" | "advice" | "clean";

const tabs: [TrayTab, string][] = [
  ["proofs", "Proofs"],
  ["causes", "Causes"],
  ["bounces", "Bounces"],
  ["advice", "Advice"],
  ["clean", "Clean-up"],
];

/** Heights of the tray: folded away, as low as the sheet, and high enough for tables. */
const heights = [34, 174, 330];

interface Props {
  tab: TrayTab;
  choose: (t: TrayTab) => void;
  /** How many proofs there are. */
  count: number;
  children: (head: ReactNode, tools: ReactNode) => ReactNode;
}

/** What lies under the stage: it can be pulled up or folded away. */
export function Tray({ tab, choose, count, children }: Props) {
  const [own, setOwn] = useState<Record<TrayTab, number>>({
    proofs: 1,
    causes: 2,
    bounces: 2,
    advice: 2,
    clean: 2,
  });
  const height = own[tab];
  const setHeight = (h: number) => setOwn({ ...own, [tab]: h });
  const head = (
    <span className="tray-tabs" role="tablist">
      {tabs.map(([value, label]) => (
        <button
          key={value}
          role="tab"
          aria-selected={tab === value}
          className={tab === value ? "chosen" : ""}
          onClick={() => choose(value)}
        >
          {label}
          {value === "proofs" && <span className="pill">{count}</span>}
        </button>
      ))}
    </span>
  );
  const tools = (
    <span className="tray-size">
      {(
        [
          ["Pull the tray up", <UpOutlined key="up" />, 1, 2],
          ["Fold the tray down", <DownOutlined key="down" />, -1, 0],
        ] as const
      ).map(([label, icon, step, end]) => (
        <Tooltip key={label} title={label}>
          <Button
            type="text"
            size="small"
            icon={icon}
            aria-label={label}
            disabled={height === end}
            onClick={() => setHeight(height + step)}
          />
        </Tooltip>
      ))}
    </span>
  );
  return (
    <div className="tray" style={{ height: heights[height] }}>
      {children(head, tools)}
    </div>
  );
}
