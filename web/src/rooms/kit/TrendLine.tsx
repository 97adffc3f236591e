import { useQuery } from "@tanstack/react-query";
import { api, keys, unwrap } from "@/shared/client";
import { dateTime } from "@/shared/clock";

const W = 520;
const H = 90;
const PAD = 8;

/** A check's values over ninety days, on a log scale where they span much; failed ones stand out by shape. */
export function TrendLine({ instrument, name }: { instrument: string; name: string }) {
  const trend = useQuery({
    queryKey: keys.trend(instrument, name),
    queryFn: () =>
      unwrap(
        api.GET("/api/counters/{instrument_id}/trend/{name}", {
          params: { path: { instrument_id: instrument, name } },
        }),
      ),
  }).data;
  if (!trend) return null;
  if (trend.points.length === 0) return <p className="dim">No values in the last ninety days.</p>;
  const values = trend.points.map((one) => Number(one.value));
  const times = trend.points.map((one) => Date.parse(one.at));
  const { limits } = trend;
  const all = [...values, ...limits].filter((one) => one > 0);
  const isLog = Math.max(...all) > 50 * Math.min(...all);
  const scale = (one: number) => (isLog ? Math.log10(Math.max(one, Math.min(...all))) : one);
  const low = Math.min(...[...values, ...limits].map(scale));
  const high = Math.max(...[...values, ...limits].map(scale));
  const y = (one: number) => H - PAD - ((H - 2 * PAD) * (scale(one) - low)) / Math.max(high - low, 1e-9);
  const first = Math.min(...times);
  const span = Math.max(Math.max(...times) - first, 1);
  const x = (at: number) => PAD + ((W - 2 * PAD) * (at - first)) / span;
  const last = trend.points.at(-1);
  return (
    <figure className="trend">
      <svg
        viewBox={`0 0 ${W} ${H}`}
        role="img"
        aria-label={`${trend.title}: ${trend.points.length} values, the last ${last?.value ?? ""}, ${trend.limit}`}
      >
        {limits.map((one) => (
          <line key={one} x1="0" x2={W} y1={y(one)} y2={y(one)} className="trend-limit" />
        ))}
        <polyline className="trend-line" points={values.map((one, i) => `${x(times[i] ?? 0)},${y(one)}`).join(" ")} />
        {trend.points.map((one, i) =>
          one.passed ? (
            <circle key={one.at} cx={x(times[i] ?? 0)} cy={y(values[i] ?? 0)} r="3" className="trend-dot" />
          ) : (
            <path
              key={one.at}
              d={`M${x(times[i] ?? 0) - 6} ${y(values[i] ?? 0) - 6}l12 12m0-12l-12 12`}
              className="trend-failed"
            />
          ),
        )}
      </svg>
      <figcaption className="dim">
        {trend.points.length} values since {dateTime(trend.points[0]?.at ?? "")}; dashed: {trend.limit}
      </figcaption>
    </figure>
  );
}
