import { useQuery } from "@tanstack/react-query";
import { getPreflightRule, type PreflightRule, setPreflightRule } from "../../api/client";
import { useKeep, Written } from "./keep";
import { lookAgain } from "./Part";

/** When nodes are asked by themselves whether they can render what is in the queue. */
export function PreflightPart() {
  const rule = useQuery({ queryKey: ["preflight-rule"], queryFn: getPreflightRule, refetchInterval: lookAgain });
  const keep = useKeep("preflight-rule");
  if (!rule.data) {
    return rule.isError ? <p className="text-failed">{rule.error.message}</p> : null;
  }
  const now = rule.data;
  const change = (changes: Partial<PreflightRule>, text: string) =>
    keep(
      () => setPreflightRule({ ...now, ...changes }),
      text,
      (made) => setPreflightRule({ ...now, etag: made.etag }),
    );
  const zone = now.zone || Intl.DateTimeFormat().resolvedOptions().timeZone;
  return (
    <section aria-label="Preflight by itself" id="preflight-by-itself" className="scroll-mt-3">
      <h2 className="section">
        <b>Preflight by itself</b> nodes that are ready are asked whether they could; where some fail, a run needs a
        hand
      </h2>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2 py-1 text-[13px]">
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={now.held}
            onChange={(e) =>
              void change(
                { held: e.target.checked },
                e.target.checked ? "Held runs are asked about." : "Held runs are not asked about any more.",
              )
            }
          />
          about runs that somebody holds
        </label>
        <span className="flex items-center gap-2">
          about all open runs, daily at
          <Written
            value={now.night}
            placeholder="never"
            label="Time of day at which all open runs are asked about"
            className="num w-20"
            onKeep={(night) =>
              void change({ night, zone }, night ? `All open runs are asked about at ${night}.` : "Never by night.")
            }
          />
          <span className="text-xs text-muted">{zone}</span>
        </span>
      </div>
    </section>
  );
}
