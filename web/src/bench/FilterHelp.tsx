import { Tooltip } from "antd";
import { useFilterCharacter } from "../api/queries";
import { percent } from "../app/format";

/** What the chosen pixel filter does, in a line; a chart as it shows it, on asking. */
export function FilterHelp({ filter, radius }: { filter: string; radius: number }) {
  const c = useFilterCharacter(filter, radius).data;
  if (!c) return null;
  const address = (name: string, r: number) => `/api/filters/${name}/chart.png?radius=${r}`;
  const charts: [string, string][] = [
    ["this filter", address(filter, radius)],
    ["box, half a pixel", address("box", 0.5)],
  ];
  return (
    <Tooltip
      placement="left"
      title={
        <span className="filter-charts">
          {charts.map(([label, src]) => (
            <figure key={label}>
              <img src={src} width={192} height={192} alt={`A chart through ${label}`} />
              <figcaption>{label}</figcaption>
            </figure>
          ))}
        </span>
      }
    >
      <p className="footnote filter-help">
        {`Stripes 2 px wide keep ${percent(c.contrast[0], 0)} of their contrast, 1 px wide ${percent(c.contrast[1], 0)}; the same grain costs ${c.price.toFixed(1)} × the samples.`}
      </p>
    </Tooltip>
  );
}
