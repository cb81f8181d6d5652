import { Segmented, Tooltip } from "antd";
import { useState } from "react";
import { useLedger } from "../api/queries";
import type { Layer, ProofView, Region, ShotView } from "../api/types";
import { percent, steps } from "../app/format";
import { partName, picturePass, type Pass } from "./names";
import { NoiseTable } from "./NoiseTable";
import { endedTest, whyNone } from "./ended";

interface Props {
  shot: ShotView;
  proof: ProofView | undefined;
  /** On the stage; it may serve as the rectangle of which the grain is divided. */
  region: Region | null;
  pass: Pass;
  show: (p: Pass) => void;
  setRays: (light: string, rays: number) => void;
}

/** The part of a region that a proof shows. */
function shared(proof: ProofView, region: Region | null): Region | null {
  if (!region) return null;
  const r = proof.region ?? { x: 0, y: 0, width: proof.frame[0], height: proof.frame[1] };
  const [x, y] = [Math.max(r.x, region.x), Math.max(r.y, region.y)];
  const right = Math.min(r.x + r.width, region.x + region.width);
  const bottom = Math.min(r.y + r.height, region.y + region.height);
  return right > x && bottom > y ? { x, y, width: right - x, height: bottom - y } : null;
}

export function Causes({ shot, proof, region, pass, show, setRays }: Props) {
  const [inside, setInside] = useState(false);
  const ended = endedTest(proof);
  const part = ended && inside ? shared(ended, region) : null;
  const ledger = useLedger(ended?.id ?? null, ended?.report?.samples ?? 0, part).data;
  if (!ended || !ledger) return <p className="empty">{whyNone(proof, "who causes its grain")}</p>;
  const n = ledger.noise;
  return (
    <div className="causes">
      <div className="causes-head">
        <Segmented
          size="small"
          value={inside && part ? "part" : "all"}
          onChange={(v) => setInside(v === "part")}
          options={[
            { value: "all", label: ended.region ? "The proof's region" : "The whole frame" },
            {
              value: "part",
              label: "The rectangle on the picture",
              disabled: shared(ended, region) === null,
            },
          ]}
        />
        {n && (
          <Tooltip title="What the rows below add up to: half the displayed difference of the halves in luminance, before any clean-up. The noise that tests and finals tell is of the worst of red, green and blue, after the clean-up where that is judged.">
            <span>{`luminance noise before clean-up ${percent(n.grain, 2)} = ${steps(n.grain)} of 255 steps`}</span>
          </Tooltip>
        )}
        {ledger.differs.length > 0 && (
          <span className="caution" data-testid="ledger-stale">
            {`${ledger.differs.length} knobs differ from proof ${ledger.proof_number} now`}
          </span>
        )}
        <span className="grow" />
        {pass.part && (
          <Segmented<Layer>
            size="small"
            value={pass.layer}
            onChange={(layer) => show({ ...pass, layer })}
            options={[
              { value: "part", label: `${partName(pass.part)} alone` },
              { value: "part_grain", label: "its grain" },
            ]}
          />
        )}
        {pass.part && <button onClick={() => show(picturePass)}>back to the picture</button>}
      </div>
      <NoiseTable shot={shot} ledger={ledger} pass={pass} show={show} setRays={setRays} />
    </div>
  );
}
