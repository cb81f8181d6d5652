import type { Profile, Region } from "../api/types";
import { steps } from "../app/format";

const [width, height, left, bottom] = [260, 118, 34, 18];

const written = (r: Region) => `${r.x},${r.y},${r.width},${r.height}`;
const listed = (text: string) => text.split(";").filter((t) => t !== "");

interface Props {
  profile: Profile;
  struck: string;
  pointed: string;
  region: Region | null;
  hint: (h: { struck: string; pointed: string }) => void;
}

/** Noise by brightness: flat areas as dots, what the halves know of them as rings, and the curve that counts. Without halves it
 *  rests on the areas, and a dot can be struck out. */
export function ProfileChart({ profile, struck, pointed, region, hint }: Props) {
  const strike = (r: Region, is: boolean) => {
    const own = written(r);
    // A struck square lies inside what was struck, so it is found by its own text.
    const rest = listed(struck).filter((t) => t !== own);
    hint({ struck: (is ? rest : [...rest, own]).join(";"), pointed });
  };
  const most = Math.max(...profile.areas.flatMap((a) => [a.level, a.known ?? 0]), 1 / 255) * 1.15;
  const halves = profile.areas.some((a) => a.known !== null);
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
            className={a.struck ? "struck" : ""}
            {...(!halves && {
              role: "button",
              "aria-label": `${a.struck ? "Take back" : "Strike"} the area at ${a.region.x}, ${a.region.y}`,
              onClick: () => strike(a.region, a.struck),
            })}
          >
            <title>{`${a.region.width} × ${a.region.height} at ${a.region.x}, ${a.region.y}: ${steps(a.level)} steps${
              halves ? "" : `; press to ${a.struck ? "take back" : "strike it out"}`
            }`}</title>
          </circle>
        ))}
        {profile.areas.map(
          (a, i) =>
            a.known !== null && (
              <circle key={`k${i}`} className="known" cx={x(a.brightness)} cy={y(a.known)} r={4} />
            ),
        )}
      </svg>
      <figcaption className="second">
        {`steps of 255 by brightness${halves ? "; line and rings: what the halves know, and that counts; dots: what flat areas tell" : ""}`}
        {scale && ` · means of 1, 2, 4 pixels: ${scale.map(steps).join(", ")}`}
        {!halves && (
          <>
            <br />
            <button
              disabled={region === null}
              onClick={() =>
                region && hint({ struck, pointed: [...listed(pointed), written(region)].join(";") })
              }
            >
              {region ? "this region is flat" : "drag a flat region to point to it"}
            </button>
            {(struck !== "" || pointed !== "") && (
              <button onClick={() => hint({ struck: "", pointed: "" })}>forget hints</button>
            )}
          </>
        )}
      </figcaption>
    </figure>
  );
}
