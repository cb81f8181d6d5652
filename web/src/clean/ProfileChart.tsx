import type { ProfileView, Region } from "../api/types";
import { steps } from "../app/format";

const [width, height, left, bottom] = [260, 118, 34, 18];

const written = (r: Region) => `${r.x},${r.y},${r.width},${r.height}`;
const listed = (text: string) => text.split(";").filter((t) => t !== "");

interface Props {
  profile: ProfileView;
  struck: string;
  pointed: string;
  region: Region | null;
  hint: (h: { struck: string; pointed: string }) => void;
}

/** Noise by brightness: areas as dots, the curve through them, and what the halves know as rings. A dot can be struck out. */
export function ProfileChart({ profile, struck, pointed, region, hint }: Props) {
  const strike = (r: Region, is: boolean) => {
    const own = written(r);
    // A struck square lies inside what was struck, so it is found by its own text.
    const rest = listed(struck).filter((t) => t !== own);
    hint({ struck: (is ? rest : [...rest, own]).join(";"), pointed });
  };
  const most = Math.max(...profile.areas.map((a) => a.level), ...profile.known, 1 / 255) * 1.15;
  const x = (brightness: number) => left + Math.min(brightness, 1.2) * ((width - left - 8) / 1.2);
  const y = (level: number) => height - bottom - (level / most) * (height - bottom - 8);
  const scale = profile.areas.length
    ? ([0, 1, 2] as const).map(
        (k) => profile.areas.reduce((sum, a) => sum + (a.by_scale[k] ?? 0), 0) / profile.areas.length,
      )
    : null;
  return (
    <figure className="profile-chart">
      <svg width={width} height={height} role="img" aria-label="Noise by brightness">
        <line x1={left} y1={height - bottom} x2={width - 4} y2={height - bottom} />
        <line x1={left} y1={4} x2={left} y2={height - bottom} />
        <text x={left - 4} y={12} textAnchor="end">
          {steps(most)}
        </text>
        <text x={left - 4} y={height - bottom} textAnchor="end">
          0
        </text>
        <text x={left} y={height - 5}>
          dark
        </text>
        <text x={width - 6} y={height - 5} textAnchor="end">
          bright
        </text>
        <polyline points={profile.curve.map(([b, l]) => `${x(b)},${y(l)}`).join(" ")} />
        {profile.areas.map((a, i) => (
          <circle
            key={i}
            cx={x(a.brightness)}
            cy={y(a.level)}
            r={3}
            role="button"
            className={a.struck ? "struck" : ""}
            aria-label={`${a.struck ? "Take back" : "Strike"} the area at ${a.region.x}, ${a.region.y}`}
            onClick={() => strike(a.region, a.struck)}
          >
            <title>{`${a.region.width} × ${a.region.height} at ${a.region.x}, ${a.region.y}: ${steps(a.level)} steps; press to ${a.struck ? "take back" : "strike it out"}`}</title>
          </circle>
        ))}
        {profile.known.map((l, i) => (
          <circle key={`k${i}`} className="known" cx={x(profile.areas[i]?.brightness ?? 0)} cy={y(l)} r={4} />
        ))}
      </svg>
      <figcaption className="second">
        {`steps of 255 by brightness${profile.known.length ? "; rings: what the halves know" : ""}`}
        {scale && ` · means of 1, 2, 4 pixels: ${scale.map(steps).join(", ")}`}
        <br />
        <button
          disabled={region === null}
          onClick={() => region && hint({ struck, pointed: [...listed(pointed), written(region)].join(";") })}
        >
          {region ? "this region is flat" : "drag a flat region to point to it"}
        </button>
        {(struck !== "" || pointed !== "") && (
          <button onClick={() => hint({ struck: "", pointed: "" })}>forget hints</button>
        )}
      </figcaption>
    </figure>
  );
}
