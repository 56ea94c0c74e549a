import { useMutation } from "@tanstack/react-query";
import { type FarmNode, probeNodes } from "../../api/client";
import { useToast } from "../../parts/toast";

/** The renderers that the node found, what failed probes printed, and a button to probe again. */
export function RenderersPart({ node, may }: { node: FarmNode; may: boolean }) {
  const tell = useToast();
  const probe = useMutation({
    mutationFn: () => probeNodes([node.id]),
    onSuccess: ([found]) => {
      const failed = (found?.renderers ?? []).filter((r) => r.failed).length;
      if (found?.error) tell({ text: `${node.name}: ${found.error}.`, bad: true });
      else if (failed > 0)
        tell({ text: `${failed} ${failed === 1 ? "probe" : "probes"} failed on ${node.name}.`, bad: true });
      else tell({ text: `${node.name} found ${found?.renderers.length ?? 0} renderers.` });
    },
    onError: (error) => tell({ text: error.message, bad: true }),
  });
  return (
    <section aria-label="Renderers">
      <div className="flex items-baseline gap-3">
        <h2 className="section grow">
          <b>Renderers</b> found by the probes of recipes
        </h2>
        {may && (
          <button
            type="button"
            className="btn btn-xs"
            disabled={node.reach !== "online" || probe.isPending}
            onClick={() => probe.mutate()}
          >
            {probe.isPending ? "Probing…" : "Probe again"}
          </button>
        )}
      </div>
      {node.renderers.length === 0 && <p className="text-xs text-muted">None found.</p>}
      {node.renderers.map((r) => (
        <div key={r.recipe} className="border-b border-hair py-1 text-[12.5px] leading-[17px]">
          <p className="flex flex-wrap items-baseline gap-x-3">
            <span className="font-semibold">{r.recipe}</span>
            <span className="num">{r.version}</span>
            <span className="num min-w-0 break-all text-muted">{r.path}</span>
          </p>
          {r.unfit && <p className="text-failed">Cannot be used: {r.unfit}</p>}
          {r.printed && <pre className="overflow-x-auto text-[11.5px] text-muted">{r.printed}</pre>}
        </div>
      ))}
    </section>
  );
}
