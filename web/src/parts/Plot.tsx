import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

/** One line of a plot. Its colour is a variable of the theme. */
export interface Series {
  name: string;
  values: (number | null)[];
  colour: string;
  fill?: boolean;
  dashed?: boolean;
}

interface Props {
  label: string;
  at: number[]; // seconds since 1970, or what across writes
  series: Series[];
  top?: number; // of the scale; by the values when left out
  write: (value: number) => string;
  across?: (at: number) => string; // of a plot that is not over time
  height?: number;
}

/** A plot, mostly over time, that says under the pointer what was when. Plots with the
 * same name of sync share the pointer. */
export function Plot({ label, at, series, top, write, across, height = 92 }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const theme = document.documentElement.dataset.theme ?? "night";
  const shape = `${theme} ${series.map((s) => s.name).join()}`;
  useEffect(() => {
    const here = box.current!;
    const ink = (name: string) => getComputedStyle(here).getPropertyValue(name).trim();
    const axis = {
      stroke: ink("--muted"),
      font: "11px JetBrains Mono Variable",
      grid: { stroke: ink("--hair"), width: 0.5 },
      ticks: { show: false },
    };
    plot.current = new uPlot(
      {
        width: Math.max(here.clientWidth, 120),
        height,
        padding: [6, 4, 0, 0],
        legend: { show: false },
        cursor: { y: false, points: { size: 5 }, ...(!across && { sync: { key: "node" } }) },
        scales: { x: { time: !across }, y: { range: (_, __, most) => [0, top ?? Math.max(most * 1.1, 1e-9)] } },
        axes: [
          {
            ...axis,
            size: 20,
            values: (u, ticks) =>
              across
                ? ticks.map((t) => (Number.isInteger(t) ? String(t) : ""))
                : ticks.map((t) => tick(t, (u.scales.x.max ?? 0) - (u.scales.x.min ?? 0))),
          },
          { ...axis, size: wide, space: 26, values: (_, ticks) => ticks.map(write) },
        ],
        series: [
          {},
          ...series.map((s) => ({
            label: s.name,
            stroke: ink(s.colour),
            width: 1.3,
            dash: s.dashed ? [3, 3] : undefined,
            fill: s.fill ? `${ink(s.colour)}2e` : undefined,
            points: { show: across !== undefined, size: 5 },
          })),
        ],
        hooks: {
          setCursor: [
            (u) => {
              const words = here.querySelector("[data-said]")!;
              const i = u.cursor.idx;
              words.textContent =
                i === null || i === undefined || u.data[0][i] === undefined
                  ? ""
                  : `${across ? across(u.data[0][i]) : moment(u.data[0][i])}  ${series
                      .map((s, n) => {
                        const v = u.data[n + 1]?.[i];
                        return v === null || v === undefined ? "" : `${s.name} ${write(v)}`;
                      })
                      .filter(Boolean)
                      .join(", ")}`;
            },
          ],
        },
      },
      [at, ...series.map((s) => s.values)],
      here.querySelector<HTMLElement>("[data-plot]")!,
    );
    const resized = new ResizeObserver(() => plot.current?.setSize({ width: Math.max(here.clientWidth, 120), height }));
    resized.observe(here);
    return () => {
      resized.disconnect();
      plot.current?.destroy();
      plot.current = null;
    };
    // A plot is made anew when its lines or colours change, and fed otherwise.
  }, [shape, height, top]);
  useEffect(() => {
    plot.current?.setData([at, ...series.map((s) => s.values)]);
  }, [at, series]);
  const last = series.map((s) => ({ s, v: s.values.findLast((v) => v !== null) })).filter((x) => x.v !== undefined);
  const said = last.map(({ s, v }) => `${s.name} ${write(v!)}`).join(", ");
  return (
    <figure ref={box} className="min-w-0 border-b border-hair py-1">
      <figcaption className="flex items-baseline gap-3 text-xs">
        <b className="font-semibold">{label}</b>
        <span className="flex flex-wrap gap-x-3 text-[11px] text-muted">
          {last.map(({ s, v }) => (
            <span key={s.name} className="flex items-center gap-1">
              <svg width="10" height="6" aria-hidden="true">
                <path
                  d="M0 3H10"
                  stroke={`var(${s.colour})`}
                  strokeWidth="2"
                  strokeDasharray={s.dashed ? "3 2" : undefined}
                />
              </svg>
              {s.name} <span className="num">{write(v!)}</span>
            </span>
          ))}
        </span>
        <span className="grow" />
        <span data-said className="num truncate text-[11px] text-muted" />
      </figcaption>
      <div data-plot role="img" aria-label={`${label}: now ${said}`} />
    </figure>
  );
}

/** How wide the labels of an axis are, so that none is cut. */
function wide(u: uPlot, labels: string[] | null): number {
  u.ctx.font = "11px JetBrains Mono Variable";
  return 14 + Math.ceil(Math.max(28, ...(labels ?? []).map((l) => u.ctx.measureText(l).width)));
}

/** When something below the pointer was. */
const moment = (at: number) =>
  new Date(at * 1000).toLocaleString([], {
    weekday: "short",
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
    hourCycle: "h23",
  });

/** A time below a plot, as fine as the plot is. */
function tick(at: number, seconds: number): string {
  const day = seconds > 3 * 86_400;
  return new Date(at * 1000).toLocaleString(
    [],
    day
      ? { day: "numeric", month: "short" }
      : { hour: "2-digit", minute: "2-digit", second: seconds < 600 ? "2-digit" : undefined, hourCycle: "h23" },
  );
}
