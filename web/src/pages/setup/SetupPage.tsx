import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import {
  getLicences,
  getPlaces,
  getRecipes,
  isAdmin,
  isWrangler,
  type Licence,
  type Me,
  ownProject,
  type Place,
  type Recipe,
  setLicence,
  setPlace,
  setPlaceLoads,
  setsUp,
} from "../../api/client";
import { NotAllowed } from "../../parts/NotAllowed";
import { clock, useNow } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { ByName, Count, useKeep } from "./keep";
import { PeoplePart } from "./PeoplePart";
import { PoolsPart } from "./PoolsPart";
import { PreflightPart } from "./PreflightPart";
import { PresetsPart } from "./PresetsPart";
import { ProjectsPart } from "./ProjectsPart";
import { RatesPart } from "./RatesPart";
import { source } from "./source";

/** What is set up once for the farm: projects and where their files lie, pools, recipes,
 * presets, licences, what machines cost, and people. */
export function SetupPage({ me }: { me: Me }) {
  useTitle("Setup");
  if (!setsUp(me)) {
    return <NotAllowed me={me} what="Recipes, places and licences are set up by wranglers." />;
  }
  return (
    <main className="max-w-[900px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="border-b border-hair pb-3">
        <h1 className="text-xl font-[650]">Setup</h1>
        <p className="text-[13px] text-muted">
          How the farm renders, and what it may use at once. Changes are in force within seconds. Who is told of what:{" "}
          <Link to="/notices" className="underline">
            notices
          </Link>
          .
        </p>
      </header>
      {isWrangler(me) && (
        <>
          <ProjectsPart />
          <Places />
          <PoolsPart />
          <Recipes />
        </>
      )}
      <PresetsPart me={me} />
      {isWrangler(me) && (
        <>
          <PreflightPart />
          <Licences />
          <RatesPart />
        </>
      )}
      {isAdmin(me) && <PeoplePart />}
    </main>
  );
}

function Recipes() {
  const recipes = useQuery({ queryKey: ["recipes"], queryFn: () => getRecipes(true) });
  const now = useNow();
  return (
    <section aria-label="Recipes">
      <h2 className="section flex items-baseline gap-2">
        <b>Recipes</b> how renderers are started, fed and read
        <Link to="/setup/new-recipe" className="btn ml-auto btn-xs">
          New recipe
        </Link>
      </h2>
      {recipes.isError && <p className="text-failed">{recipes.error.message}</p>}
      <ul>
        {recipes.data?.map((r: Recipe) => (
          <li
            key={r.name}
            className={`grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-4 border-b border-hair py-2 ${
              r.dropped ? "text-muted" : ""
            } sm:grid-cols-[180px_minmax(0,1fr)_200px_90px]`}
          >
            <Link to={`/setup/recipes/${r.name}`} className="truncate font-semibold hover:underline" title={r.name}>
              {r.name}
            </Link>
            <span className="truncate max-sm:hidden" title={r.title}>
              {r.title}
              {r.dropped && " · dropped: for no new run"}
              {r.unreadable && <span className="text-failed"> · of a newer form than this service reads</span>}
            </span>
            <span className="truncate text-xs text-muted max-sm:order-last max-sm:col-span-2">
              version <span className="num">{r.version}</span>, {source(r)}
              {r.at && r.origin !== "shipped" && `, ${clock(r.at, now)}`}
            </span>
            <span className="text-right text-xs text-muted">
              <span className="num">{r.nodes}</span> {r.nodes === 1 ? "node" : "nodes"}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Licences() {
  const licences = useQuery({ queryKey: ["licences"], queryFn: getLicences, refetchInterval: 3000 });
  const keep = useKeep("licences");
  const now = useNow();
  return (
    <section aria-label="Licences">
      <h2 className="section">
        <b>Licences</b> a run waits as long as none is free
      </h2>
      {licences.isError && <p className="text-failed">{licences.error.message}</p>}
      {licences.data?.length === 0 && <p className="text-muted">No recipe needs a licence, and none is counted.</p>}
      <ul>
        {licences.data?.map((l: Licence) => (
          <li
            key={l.name}
            className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 border-b border-hair py-2 sm:grid-cols-[180px_150px_minmax(0,1fr)_auto]"
          >
            <b className="truncate font-semibold" title={l.name}>
              {l.name}
            </b>
            <Count
              value={l.count}
              none="not counted"
              label={`How many licences ${l.name} there are`}
              onKeep={(n) => keep(() => setLicence(l.name, n), `Licence ${l.name}: ${n === null ? "not counted" : n}.`)}
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
      <ByName
        what="a licence"
        button="Count it"
        onMake={(name) => keep(() => setLicence(name, 1), `Licence ${name} is counted: there is 1.`)}
      />
    </section>
  );
}

function Places() {
  const places = useQuery({ queryKey: ["places"], queryFn: getPlaces });
  const keep = useKeep("places");
  const shown = (places.data ?? []).filter((p) => !p.name.startsWith(`${ownProject}-`));
  const [made, setMade] = useState({ name: "", linux: "", darwin: "", windows: "" });
  const add = (event: FormEvent) => {
    event.preventDefault();
    const { name, ...paths } = made;
    const given = Object.fromEntries(Object.entries(paths).filter(([, path]) => path.trim() !== ""));
    void keep((strand) => setPlace(name.trim(), given, strand), `There is a place ${name.trim()}.`).then((done) => {
      if (done) {
        setMade({ name: "", linux: "", darwin: "", windows: "" });
      }
    });
  };
  return (
    <section aria-label="Places">
      <h2 className="section">
        <b>Places</b> how many launches may load from one at the same moment
      </h2>
      {places.isError && <p className="text-failed">{places.error.message}</p>}
      <ul>
        {shown.map((p: Place) => (
          <li
            key={p.name}
            className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 border-b border-hair py-2 sm:grid-cols-[180px_150px_minmax(0,1fr)]"
          >
            <b className="truncate font-semibold" title={p.name}>
              {p.name}
            </b>
            <Count
              value={p.loads === 0 ? null : p.loads}
              none="any number"
              label={`Launches that may load from ${p.name} at once`}
              onKeep={(n) =>
                keep(() => setPlaceLoads(p, n ?? 0), `Place ${p.name}: ${n === null ? "any number" : n} at once.`)
              }
            />
            <span className="num min-w-0 text-xs break-all text-muted max-sm:col-span-2">
              {p.mark !== "marked" && <span className="text-failed">{p.mark} · </span>}
              {[...new Set(Object.values(p.paths))].join(" · ")}
            </span>
          </li>
        ))}
      </ul>
      <form onSubmit={add} className="mt-2 flex flex-wrap gap-2">
        {(
          [
            ["name", "name of a place"],
            ["linux", "its path on Linux"],
            ["darwin", "on macOS"],
            ["windows", "on Windows"],
          ] as const
        ).map(([field, what]) => (
          <input
            key={field}
            className="input w-44 input-xs"
            aria-label={field === "name" ? "Name of a place" : `Path of the place, ${what}`}
            placeholder={what}
            value={made[field]}
            onChange={(event) => setMade({ ...made, [field]: event.target.value })}
          />
        ))}
        <button
          type="submit"
          className="btn btn-xs"
          disabled={made.name.trim() === "" || !(made.linux + made.darwin + made.windows).trim()}
        >
          Make it
        </button>
      </form>
    </section>
  );
}
