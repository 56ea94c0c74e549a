import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { type Estimate, estimate } from "../../api/client";
import { Facts } from "../../parts/Facts";
import { Plot } from "../../parts/Plot";
import { clock, sentence, span, told, useNow } from "../../parts/time";

/** When it would be finished and what it would take, played over the farm as it is. */
export function EstimatePart({ text, proof, ready }: { text: string; proof: boolean; ready: boolean }) {
  const asked = useQuery({
    queryKey: ["estimate", text, proof],
    queryFn: () => estimate({ text, proof }),
    enabled: ready,
    retry: false,
    staleTime: 60_000,
  });
  return (
    <section aria-label="Estimate">
      <h2 className="section">
        <b>Estimate</b> on the farm as it is now
      </h2>
      {ready && asked.isFetching && <p className="text-[13px] text-muted">Playing the farm …</p>}
      {asked.isError && <p className="text-[13px] text-failed">✕ {sentence(asked.error.message)}</p>}
      {ready && asked.data && !asked.isFetching && <What of={asked.data} />}
    </section>
  );
}

function What({ of }: { of: Estimate }) {
  const now = useNow(10_000);
  const series = useMemo(
    () => [{ name: "finish", values: of.curve.map((p) => p.seconds), colour: "--s-rendering" }],
    [of.curve],
  );
  const at = useMemo(() => of.curve.map((p) => p.nodes), [of.curve]);
  const hours = of.machine_hours;
  const figures: [string, string][] = [
    [
      "finish",
      of.median
        ? `about ${clock(of.median, now)}${of.late && of.late !== of.median ? `, nine of ten by ${clock(of.late, now)}` : ""}`
        : "",
    ],
    ["takes", of.known ? `${hours < 1 ? span(hours * 3_600_000) : `${hours.toFixed(1)} h`} of machines` : ""],
    ["energy", of.energy_kwh > 0 ? `${of.energy_kwh.toFixed(2)} kWh` : ""],
    ["costs", of.money > 0 ? `${of.money.toFixed(2)} ${of.currency}` : ""],
    ["nodes", of.known ? String(of.nodes) : ""],
  ];
  return (
    <div>
      <Facts rows={figures} />
      <p className="mt-1 text-xs text-muted">{sentence(of.basis, now)}</p>
      {of.sentence && <p className="mt-1 text-[13px]">{told(of.sentence, now)}</p>}
      {of.curve.length > 1 && (
        <Plot
          label="Finish by nodes"
          at={at}
          series={series}
          height={110}
          write={(s) => span(s * 1000)}
          across={(n) => (n === 1 ? "1 node" : `${n} nodes`)}
        />
      )}
    </div>
  );
}
