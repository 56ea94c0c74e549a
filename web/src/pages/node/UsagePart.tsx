import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { memo, useState } from "react";
import { type FarmNode, getUsage, type Usage } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { amount } from "../../parts/Gauge";
import { Plot, type Series } from "../../parts/Plot";

const spans = [
  { over: "1h", name: "hour", every: 5_000 },
  { over: "24h", name: "day", every: 60_000 },
  { over: "90d", name: "90 days", every: 300_000 },
];

const percent = (v: number) => `${Math.round(100 * v)} %`;
const rate = (v: number) => `${amount(Math.round(v))}/s`;
const knows = (values: (number | null)[]) => values.some((v) => v !== null);

/** How busy the machine was: plots over an hour, a day or ninety days. */
export const UsagePart = memo(
  UsageView,
  (a, b) =>
    a.node.id === b.node.id &&
    a.node.cores === b.node.cores &&
    a.node.memory_bytes === b.node.memory_bytes &&
    a.node.devices === b.node.devices,
);

type Machine = Pick<FarmNode, "id" | "cores" | "memory_bytes" | "devices">;

function UsageView({ node }: { node: Machine }) {
  const [span, setSpan] = useState(spans[0]);
  const usage = useQuery({
    queryKey: ["node", node.id, "usage", span.over],
    queryFn: () => getUsage(node.id, span.over),
    refetchInterval: span.every,
    placeholderData: keepPreviousData,
  });
  return (
    <section aria-label="Usage">
      <div className="flex items-baseline gap-3">
        <h2 className="section grow">
          <b>Usage</b> what the machine measures of itself
        </h2>
        <Choice
          label="Over"
          options={spans.map((s) => s.name)}
          chosen={span.name}
          onChoose={(name) => setSpan(spans.find((s) => s.name === name)!)}
        />
      </div>
      {usage.data && usage.data.at.length > 1 ? (
        <Plots usage={usage.data} node={node} />
      ) : (
        <p className="text-xs text-muted">
          {usage.isError ? usage.error.message : usage.data ? "Nothing was measured in that time." : "Reading …"}
        </p>
      )}
    </section>
  );
}

function Plots({ usage: u, node }: { usage: Usage; node: Machine }) {
  const fine = u.step_seconds < 60;
  const processor: Series[] = [{ name: "all cores", values: u.processor, colour: "--s-rendering", fill: true }];
  if (!fine) {
    processor.push({ name: "most", values: u.processor_most, colour: "--s-verifying", dashed: true });
  } else if (u.groups.length > 1) {
    const busiest = u.at.map((_, i) =>
      u.groups.reduce<number | null>((most, g) => (g[i] === null ? most : Math.max(most ?? 0, g[i])), null),
    );
    processor.push({
      name: node.cores > u.groups.length ? "busiest group" : "busiest core",
      values: busiest,
      colour: "--s-verifying",
      dashed: true,
    });
  }
  const lines: { label: string; series: Series[]; top?: number; write: (v: number) => string }[] = [
    { label: "Processor", series: processor, top: 1, write: percent },
    {
      label: "Memory",
      series: [
        { name: "in use", values: u.memory, colour: "--s-done", fill: true },
        ...(knows(u.swap) && u.swap.some((v) => (v ?? 0) > 0)
          ? [{ name: "swap", values: u.swap, colour: "--s-failed" }]
          : []),
      ],
      top: node.memory_bytes || undefined,
      write: (v) => amount(Math.round(v)),
    },
    ...u.devices.map((d) => ({
      label: `${node.devices.find((x) => x.id === d.id)?.model ?? ""} ${d.id}`.trim(),
      series: [{ name: "busy", values: d.busy, colour: "--s-sidelined", fill: true }],
      top: 1,
      write: percent,
    })),
    {
      label: "Disk",
      series: [
        { name: "read", values: u.disk_read, colour: "--s-rendering" },
        { name: "written", values: u.disk_written, colour: "--s-held" },
      ],
      write: rate,
    },
    {
      label: "Network",
      series: [
        { name: "received", values: u.received, colour: "--s-rendering" },
        { name: "sent", values: u.sent, colour: "--s-held" },
      ],
      write: rate,
    },
    { label: "Load", series: [{ name: "processes", values: u.load, colour: "--s-dealt" }], write: (v) => v.toFixed(1) },
    {
      label: "Disk free",
      series: [{ name: "for staging", values: u.disk_free, colour: "--s-dealt" }],
      write: (v) => amount(Math.round(v)),
    },
    {
      label: "Temperature",
      series: [{ name: "processor", values: u.temperature, colour: "--s-failed" }],
      write: (v) => `${Math.round(v)} °C`,
    },
  ];
  return (
    <div className="grid grid-cols-1 gap-x-8 lg:grid-cols-2">
      {lines
        .map((l) => ({ ...l, series: l.series.filter((s) => knows(s.values)) }))
        .filter((l) => l.series.length > 0)
        .map((l) => (
          <Plot key={l.label} label={l.label} at={u.at} series={l.series} top={l.top} write={l.write} />
        ))}
    </div>
  );
}
