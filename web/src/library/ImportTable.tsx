import type { ImportReport } from "../api/types";
import { count, size } from "../app/format";

const handled = { read: "read", approximated: "approximated", ignored: "ignored" } as const;

/** What an import did with every feature of a scene, its extent and its units. */
export function ImportTable({ report }: { report: ImportReport }) {
  const [lo, hi] = report.bounds;
  const extent = hi.map((h, i) => (h - lo[i]!).toPrecision(3)).join(" × ");
  return (
    <div className="import" data-testid="import-report">
      <p className="second">
        {`${count(report.triangles)} triangles, ${report.materials} materials, ${report.textures} textures (${size(report.texture_bytes)}), ${report.lights} punctual lights, ${report.cameras.length} cameras. One unit is a metre; the scene measures ${extent} m.`}
      </p>
      <table>
        <tbody>
          {report.entries.map((e) => (
            <tr key={`${e.feature} ${e.handling} ${e.note}`}>
              <td className={`handling ${e.handling}`}>{handled[e.handling]}</td>
              <td>
                {e.feature}
                {e.count > 1 && <span className="second"> × {e.count}</span>}
              </td>
              <td className="second">{e.note}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
