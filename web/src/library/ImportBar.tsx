import { Button, Progress } from "antd";
import type { Importing } from "./useImport";

export function ImportBar({ importing, stop }: { importing: Importing | null; stop: () => void }) {
  if (!importing) return null;
  return (
    <div className="import-bar" data-testid="importing">
      <span>{importing.name}</span>
      <Progress
        percent={Math.round(importing.share * 100)}
        size="small"
        showInfo={false}
        strokeColor="#36566B"
      />
      <span className="second">{importing.words}</span>
      <Button size="small" onClick={stop}>
        Stop import
      </Button>
    </div>
  );
}
