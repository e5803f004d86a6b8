import { memo, useMemo } from "react";
import type { Series } from "../api/client";
import { age, decimalsOfSeries, fixed, last, nothing, number, words } from "../format";
import { Spark } from "../head/Spark";
import { useTick } from "../live/tick";
import { useLatest } from "../live/useLive";
import { Link } from "../parts/Link";
import { Mark } from "../parts/Mark";
import { convert, type UnitsOf } from "../units";
import { conditionOf, qualityOf, type Condition } from "./condition";

interface Props {
  path: string;
  series: Series | undefined;
  units: UnitsOf;
  day: (number | null)[] | undefined;
}

/** The latest value of a series, with its last day and its normal range. What changes each second is
 *  drawn apart from what stays. */
export const SeriesRow = memo(function SeriesRow({ path, series, units, day }: Props) {
  return (
    <tr data-series={path} className="h-8">
      <th
        scope="row"
        title={path}
        className="truncate pr-1 text-left text-[0.9375rem] leading-tight font-normal text-soft print:whitespace-normal"
      >
        <Link
          to={`/series?path=${encodeURIComponent(path)}`}
          className="target max-w-full truncate align-top underline decoration-rule underline-offset-4 hover:decoration-water"
        >
          {words(last(path))}
        </Link>
      </th>
      <PresentCell path={path} units={units} />
      <td className="hidden pl-1 sm:table-cell print:hidden">
        {day && <Spark values={day} width={56} height={20} />}
      </td>
      <AgeCell path={path} series={series} units={units} />
    </tr>
  );
});

/** The value and its unit. */
function PresentCell({ path, units }: Pick<Props, "path" | "units">) {
  const value = useLatest(path);
  if (!value) return <td />;
  if (value.state) return <td className="truncate text-right text-lg">{value.state}</td>;
  const to = units(value.unit ?? "");
  const decimals = Math.max(decimalsOfSeries(value.path, value.value), to.symbol ? 1 : 0);
  const text = fixed(convert(value.value, to), decimals);
  return (
    <td className="text-right whitespace-nowrap">
      <span className={text.length > 6 ? "" : "text-lg"}>{text}</span>
      <span className="inline-block min-w-10 pl-1 text-left text-soft">{to.written}</span>
    </td>
  );
}

/** How old it is, or what is wrong with it. */
function AgeCell({ path, series, units }: Omit<Props, "day">) {
  const value = useLatest(path);
  const quality = useLatest(qualityOf(path));
  const clock = useTick();
  const range = useMemo(() => normalText(series, units), [series, units]);
  if (!value) return <td />;
  const condition = conditionOf(value, series, clock, quality?.state === "uncertain");
  const old = clock - Date.parse(value.time);
  return (
    <td
      className="text-right text-sm whitespace-nowrap text-soft"
      title={`${value.time}${range}`}
      data-condition={condition}
    >
      {condition === "well" ? age(old) : <ConditionMark condition={condition} old={old} />}
    </td>
  );
}

export function ConditionMark({
  condition,
  old,
  since,
}: {
  condition: Condition;
  old: number;
  since?: string;
}) {
  const outside = since ? `${condition}, ${since}` : condition;
  switch (condition) {
    case "missing":
    case "stale":
      return <Mark look="stale">{`${condition}, ${age(old)}`}</Mark>;
    case "critical":
      return <Mark look="bad">{outside}</Mark>;
    case "unusual":
    case "uncertain":
      return <Mark look="stale">{outside}</Mark>;
    default:
      return null;
  }
}

/** The normal range of a series, in words. */
export function normalText(series: Series | undefined, units: UnitsOf): string {
  const inner = series?.normal.inner ?? series?.normal.outer;
  if (!series || !inner) return "";
  const to = units(series.unit);
  const end = (v: number | null | undefined) => (v == null ? nothing : number(convert(v, to)));
  return `, normal ${end(inner[0])} to ${end(inner[1])} ${to.written}`;
}
