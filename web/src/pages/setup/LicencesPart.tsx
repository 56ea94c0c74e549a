import { useQuery } from "@tanstack/react-query";
import { getLicences, setLicence } from "../../api/client";
import { clock, useNow } from "../../parts/time";
import { ByName, Count, useKeep } from "./keep";
import { Columns, Part, useFound } from "./Part";

/** How many licences there are of what recipes need. */
export function LicencesPart() {
  const licences = useQuery({ queryKey: ["licences"], queryFn: getLicences, refetchInterval: 3000 });
  const { shown, more } = useFound(licences.data, (l) => [l.name, ...l.recipes]);
  const keep = useKeep("licences");
  const now = useNow();
  return (
    <Part name="Licences" intro="a run waits as long as none is free" error={licences.error}>
      {licences.data?.length === 0 && (
        <p className="text-[13px] text-muted">No recipe needs a licence, and none is counted.</p>
      )}
      {shown.length > 0 && (
        <Columns
          of={["licence", "how many there are", "in use"]}
          className="sm:grid sm:grid-cols-[180px_150px_minmax(0,1fr)]"
        />
      )}
      <ul>
        {shown.map((l) => (
          <li
            key={l.name}
            className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 border-b border-hair py-2 sm:grid-cols-[180px_150px_minmax(0,1fr)]"
          >
            <b className="truncate font-semibold" title={l.name}>
              {l.name}
            </b>
            <Count
              value={l.count}
              none="not counted"
              label={`How many licences ${l.name} there are`}
              onKeep={(n) =>
                keep(
                  () => setLicence(l.name, n),
                  `Licence ${l.name}: ${n === null ? "not counted" : n}.`,
                  () => setLicence(l.name, l.count),
                )
              }
            />
            <span className="text-xs text-muted max-sm:col-span-2">
              <span className="num">{l.used}</span> used
              {l.recipes.length > 0 && ` · needed by ${l.recipes.join(", ")}`}
              {l.lowered !== null && l.lowered_until !== null && (
                <span className="text-failed">
                  {" "}
                  · a renderer found none: reckoned with {l.lowered} until {clock(l.lowered_until, now)}
                </span>
              )}
            </span>
          </li>
        ))}
      </ul>
      {more}
      <ByName
        what="a licence"
        button="Count it"
        onMake={(name) => keep(() => setLicence(name, 1), `Licence ${name} is counted: there is 1.`)}
      />
    </Part>
  );
}
