import { Link } from "react-router";
import { isAdmin, isWrangler, type Me, setsUp } from "../../api/client";
import { useAddress } from "../../parts/address";
import { NotAllowed } from "../../parts/NotAllowed";
import { useTitle } from "../../parts/title";
import { LicencesPart } from "./LicencesPart";
import { anchor, Find } from "./Part";
import { PeoplePart } from "./PeoplePart";
import { PlacesPart } from "./PlacesPart";
import { PoolsPart } from "./PoolsPart";
import { PreflightPart } from "./PreflightPart";
import { PresetsPart } from "./PresetsPart";
import { ProjectsPart } from "./ProjectsPart";
import { RatesPart } from "./RatesPart";
import { RecipesPart } from "./RecipesPart";

/** What is set up once for the farm: projects and where their files lie, pools, recipes,
 * presets, licences, what machines cost, and people. */
export function SetupPage({ me }: { me: Me }) {
  useTitle("Setup");
  const [address, change] = useAddress();
  if (!setsUp(me)) {
    return <NotAllowed me={me} what="Recipes, places and licences are set up by wranglers." />;
  }
  const find = address.get("find") ?? "";
  const parts = [
    ...(isWrangler(me) ? ["Projects", "Places", "Pools", "Recipes"] : []),
    "Presets",
    ...(isWrangler(me) ? ["Preflight by itself", "Licences", "Rates"] : []),
    ...(isAdmin(me) ? ["People"] : []),
  ];
  return (
    <main className="max-w-[1100px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-4 gap-y-2 border-b border-hair pb-3">
        <div className="min-w-0 flex-1 max-sm:basis-full">
          <h1 className="text-xl font-[650]">Setup</h1>
          <p className="text-[13px] text-muted">
            Projects, storage, renderers and limits of the farm. Changes take effect within seconds.{" "}
            <Link to="/notices" className="underline">
              Notifications
            </Link>{" "}
            have a page of their own.
          </p>
        </div>
        <input
          type="search"
          className="input w-52 input-sm"
          aria-label="Find in Setup"
          placeholder="find in Setup"
          value={find}
          onChange={(e) => change({ find: e.target.value })}
        />
      </header>
      <div className="grid grid-cols-1 gap-x-8 lg:grid-cols-[minmax(0,1fr)_130px]">
        <nav
          aria-label="Parts of Setup"
          className="flex flex-wrap gap-x-4 gap-y-1 pt-3 text-[13px] lg:sticky lg:top-3 lg:order-last lg:flex-col lg:self-start lg:pt-5"
        >
          {parts.map((name) => (
            <a
              key={name}
              href={`#${anchor(name)}`}
              className="flex min-h-7 items-center text-muted hover:underline max-sm:min-h-11 max-sm:min-w-11"
            >
              {name}
            </a>
          ))}
        </nav>
        <Find value={find}>
          <div className="min-w-0">
            {isWrangler(me) && (
              <>
                <ProjectsPart />
                <PlacesPart />
                <PoolsPart />
                <RecipesPart />
              </>
            )}
            <PresetsPart me={me} />
            {isWrangler(me) && (
              <>
                <PreflightPart />
                <LicencesPart />
                <RatesPart />
              </>
            )}
            {isAdmin(me) && <PeoplePart />}
          </div>
        </Find>
      </div>
    </main>
  );
}
