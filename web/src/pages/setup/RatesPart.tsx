import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { getPools, getRates, type Rate, setRate } from "../../api/client";
import { useFarm } from "../../api/live";
import { numberIn, useKeep, Written } from "./keep";
import { Columns, lookAgain, useFound } from "./Part";

/** What machines cost and how much power they take, for estimates. */
export function RatesPart() {
  const rates = useQuery({ queryKey: ["rates"], queryFn: getRates, refetchInterval: lookAgain });
  const pools = useQuery({ queryKey: ["pools"], queryFn: getPools });
  const nodes = useFarm().data?.nodes ?? [];
  const keep = useKeep("rates");
  const [more, setMore] = useState<Rate[]>([]);
  const known = rates.data ?? [];
  const is = (a: Rate, b: Rate) => a.kind === b.kind && (a.name ?? "") === (b.name ?? "");
  const farm: Rate = { kind: "farm" };
  const all = [
    farm,
    ...known.filter((r) => r.kind !== "farm"),
    ...more.filter((m) => !known.some((r) => is(r, m))),
  ].map((r) => known.find((k) => is(k, r)) ?? r);
  const { shown, more: rest } = useFound(all, (r) => [title(r)]);
  const others = [
    ...(pools.data ?? []).map((p) => ({ kind: "pool" as const, name: p.name })),
    ...nodes.map((n) => ({ kind: "node" as const, name: n.name })),
  ].filter((o) => !all.some((r) => is(r, o)));
  const change = (rate: Rate, changes: () => Partial<Rate>, what: string) =>
    keep(
      async () => setRate({ ...rate, ...changes() }),
      `${title(rate)}: ${what}.`,
      (made) => setRate({ ...rate, etag: made.etag }),
    );
  return (
    <section aria-label="Rates" id="rates" className="scroll-mt-3">
      <h2 className="section">
        <b>Rates</b> money an hour and watts while they render; a node's before its pool's before the farm's
      </h2>
      {rates.isError && <p className="text-failed">{rates.error.message}</p>}
      <Columns of={["for", "money", "power", "currency"]} className="lg:grid lg:grid-cols-[180px_150px_150px_120px]" />
      <ul>
        {shown.map((r) => (
          <li
            key={title(r)}
            className="grid grid-cols-3 items-center gap-x-4 gap-y-1 border-b border-hair py-2 lg:grid-cols-[180px_150px_150px_120px]"
          >
            <b className="truncate font-semibold max-lg:col-span-3">{title(r)}</b>
            <span className="flex items-center gap-2 text-xs whitespace-nowrap text-muted">
              <Written
                value={r.per_hour ? String(r.per_hour) : ""}
                placeholder="money"
                label={`Money an hour, ${title(r)}`}
                className="num w-full"
                onKeep={(text) =>
                  change(r, () => ({ per_hour: numberIn(text) }), text ? `${text} an hour` : "no money")
                }
              />
              an hour
            </span>
            <span className="flex items-center gap-2 text-xs whitespace-nowrap text-muted">
              <Written
                value={r.watts ? String(r.watts) : ""}
                placeholder="watts"
                label={`Watts, ${title(r)}`}
                className="num w-full"
                onKeep={(text) => change(r, () => ({ watts: numberIn(text) }), text ? `${text} W` : "no watts")}
              />
              W
            </span>
            {r.kind === "farm" && (
              <Written
                value={r.currency ?? ""}
                placeholder="currency, EUR"
                label="Currency"
                className="w-full"
                onKeep={(text) =>
                  change(r, () => ({ currency: text.toUpperCase() }), text ? text.toUpperCase() : "no currency")
                }
              />
            )}
          </li>
        ))}
      </ul>
      {rest}
      {others.length > 0 && (
        <select
          className="select mt-2 w-44 select-xs"
          aria-label="A rate of a pool or node"
          value=""
          onChange={(e) => {
            const found = others.find((o) => `${o.kind} ${o.name}` === e.target.value);
            setMore(found ? [...more, found] : more);
          }}
        >
          <option value="">a pool or node …</option>
          {others.map((o) => (
            <option key={`${o.kind} ${o.name}`}>{`${o.kind} ${o.name}`}</option>
          ))}
        </select>
      )}
    </section>
  );
}

const title = (r: Rate) => (r.kind === "farm" ? "the farm" : `${r.kind} ${r.name}`);
