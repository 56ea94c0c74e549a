import { useEffect, useState } from "react";
import type { FarmNode, NodeChange } from "../../api/client";
import { clock } from "../../parts/time";
import { HoursGrid } from "./HoursGrid";
import { fullWeek, readWeek, writeWeek } from "./week";

interface Props {
  node: FarmNode;
  now: number;
  may: boolean;
  onChange: (change: NodeChange, name: string) => void;
}

/** The duty hours of a node, to look at and to paint. */
export function HoursPart({ node, now, may, onChange }: Props) {
  const kept = node.settings.hours;
  const [week, setWeek] = useState(() => (kept ? readWeek(kept.week).week : fullWeek()));
  const [zone, setZone] = useState(kept?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
  useEffect(() => {
    setWeek(kept ? readWeek(kept.week).week : fullWeek());
    setZone(kept?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
  }, [node.id, node.settings.version]); // eslint-disable-line react-hooks/exhaustive-deps -- what is painted stays until it is kept
  const painted = writeWeek(week);
  const exact = kept === null || readWeek(kept.week).exact;
  const changed = kept === null ? painted !== writeWeek(fullWeek()) : painted !== writeWeek(readWeek(kept.week).week) || zone !== kept.zone;
  return (
    <section aria-label="Duty hours">
      <h2 className="section">
        <b>Duty hours</b> {kept === null ? "always on duty" : node.hours_change ? `${node.on_hours ? "on duty" : "off duty"} until ${clock(node.hours_change, now)}` : ""}
      </h2>
      <HoursGrid week={week} onPaint={setWeek} readOnly={!may} />
      {!exact && <p className="mt-1 text-xs text-held">These hours are no half hours; the grid shows them rounded, and keeps what it shows.</p>}
      {kept?.exceptions.map((e) => (
        <p key={e.date} className="mt-1 text-xs text-muted">
          <span className="num">{e.date}</span> {e.windows || "never"} {e.note && `– ${e.note}`}
        </p>
      ))}
      {may && (
        <div className="mt-2 flex flex-wrap items-center gap-2 text-xs">
          <label className="flex items-center gap-1 text-muted">
            time zone
            <input className="input w-44 input-xs" list="zones" placeholder="UTC" value={zone} onChange={(event) => setZone(event.target.value)} />
          </label>
          <datalist id="zones">
            {Intl.supportedValuesOf("timeZone").map((z) => (
              <option key={z} value={z} />
            ))}
          </datalist>
          <span className="grow" />
          {kept !== null && (
            <button className="btn btn-ghost btn-xs" onClick={() => onChange({ nodes: [node.id], always: true }, "Always on duty")}>
              Always on duty
            </button>
          )}
          <button
            className="btn btn-xs"
            disabled={!changed}
            onClick={() => onChange({ nodes: [node.id], hours: { zone, week: painted, exceptions: kept?.exceptions ?? [] } }, "Keep these hours")}
          >
            Keep these hours
          </button>
        </div>
      )}
    </section>
  );
}
