import { useQuery, useQueryClient } from "@tanstack/react-query";
import { memo } from "react";
import { Link } from "react-router";
import { type FarmNode, getTests, testNodes } from "../../api/client";
import { StateWord } from "../../parts/StateWord";
import { clock, told } from "../../parts/time";
import { useToast } from "../../parts/toast";

/** The newest self-test of each renderer, and a button to test again. */
export const TestPart = memo(
  TestView,
  (a, b) => a.node.id === b.node.id && a.node.name === b.node.name && a.node.reach === b.node.reach && a.may === b.may,
);

function TestView({ node, may }: { node: Pick<FarmNode, "id" | "name" | "reach">; may: boolean }) {
  const now = Date.now();
  const queries = useQueryClient();
  const tell = useToast();
  const tests = useQuery({
    queryKey: ["node", node.id, "tests"],
    queryFn: () => getTests(node.id),
    refetchInterval: (q) => ((q.state.data ?? []).some((t) => t.at === null) ? 700 : 30_000),
  });
  const begin = () =>
    testNodes([node.id])
      .then((begun) => {
        const none = begun.find((t) => t.run === 0);
        tell(
          none
            ? { text: `${none.name}: ${told(none.sentence)}.`, bad: true }
            : { text: `${node.name} tests itself, before all other work.` },
        );
        return queries.invalidateQueries({ queryKey: ["node", node.id, "tests"] });
      })
      .catch((error: Error) => tell({ text: error.message, bad: true }));
  const seconds = (v: number) => (v > 0 ? `${v.toFixed(2)} s` : "–");
  return (
    <section aria-label="Self-test">
      <div className="flex items-baseline gap-3">
        <h2 className="section grow">
          <b>Self-test</b> small known frames, compared pixel by pixel
        </h2>
        {may && (
          <button type="button" className="btn btn-xs" disabled={node.reach !== "online"} onClick={() => void begin()}>
            Test now
          </button>
        )}
      </div>
      {tests.data?.length === 0 && <p className="text-xs text-muted">Not tested yet.</p>}
      {(tests.data ?? []).map((t) => (
        <div key={t.recipe} className="border-b border-hair py-1 text-[12.5px]">
          <p className="flex items-baseline gap-3">
            <Link to={`/runs/${t.run}`} className="font-semibold hover:underline">
              {t.recipe}
            </Link>
            <StateWord state={t.state} />
            <span className="min-w-0 truncate text-muted" title={told(t.sentence)}>
              {told(t.sentence)}
            </span>
            <span className="grow" />
            <span className="num text-xs text-muted">{t.at ? clock(t.at, now) : ""}</span>
          </p>
          {t.state === "passed" && (
            <p className="num text-[11.5px] text-muted">
              starting {seconds(t.startup_seconds)}, rendering {seconds(t.render_seconds)}, checking{" "}
              {seconds(t.check_seconds)}, delivering {seconds(t.deliver_seconds)}; speed {t.speed.toFixed(2)}
            </p>
          )}
        </div>
      ))}
    </section>
  );
}
