import { memo, useState } from "react";
import type { FarmNode, NodeChange } from "../../api/client";
import { clock } from "../../parts/time";
import { HoursGrid } from "./HoursGrid";
import { fullWeek, parseWeek, readWeek, writeWeek } from "./week";

const zones = Intl.supportedValuesOf("timeZone");

interface Props {
  node: Pick<FarmNode, "id" | "settings" | "on_hours" | "hours_change">;
  may: boolean;
  onChange: (change: NodeChange, name: string) => void;
}

/** The duty hours of a node, to look at, to paint and to write. */
export const HoursPart = memo(
  HoursView,
  (a, b) =>
    a.may === b.may &&
    a.onChange === b.onChange &&
    a.node.id === b.node.id &&
    a.node.settings === b.node.settings &&
    a.node.on_hours === b.node.on_hours &&
    a.node.hours_change === b.node.hours_change,
);

function HoursView({ node, may, onChange }: Props) {
  const now = Date.now();
  const [typed, setTyped] = useState<string | null>(null);
  const kept = node.settings.hours;
  const [week, setWeek] = useState(() => (kept ? readWeek(kept.week).week : fullWeek()));
  const [zone, setZone] = useState(kept?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
  const [base, setBase] = useState(kept); // hours that the painting was begun with
  const touched =
    typed !== null ||
    writeWeek(week) !== writeWeek(base ? readWeek(base.week).week : fullWeek()) ||
    (base !== null && zone !== base.zone);
  const elsewhere = JSON.stringify(kept) !== JSON.stringify(base);
  const take = () => {
    setBase(kept);
    setWeek(kept ? readWeek(kept.week).week : fullWeek());
    setZone(kept?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
    setTyped(null);
  };
  if (elsewhere && (!touched || writeWeek(week) === writeWeek(kept ? readWeek(kept.week).week : fullWeek()))) take();
  const painted = writeWeek(week);
  const read = typed === null ? week : parseWeek(typed);
  const wrong = typeof read === "string" ? read : "";
  const exact = kept === null || readWeek(kept.week).exact;
  const changed =
    kept === null
      ? painted !== writeWeek(fullWeek())
      : painted !== writeWeek(readWeek(kept.week).week) || zone !== kept.zone;
  return (
    <section aria-label="Duty hours">
      <h2 className="section">
        <b>Duty hours</b>{" "}
        {kept === null
          ? "always on duty"
          : node.hours_change
            ? `${node.on_hours ? "on duty" : "off duty"} until ${clock(node.hours_change, now)}`
            : ""}
      </h2>
      <HoursGrid
        week={week}
        onPaint={(painted) => {
          setWeek(painted);
          setTyped(null);
        }}
        readOnly={!may}
      />
      <label className="mt-2 block text-xs text-muted">
        the same in words
        <input
          className="input num mt-[2px] block w-full input-sm"
          readOnly={!may}
          value={typed ?? painted}
          aria-invalid={wrong !== ""}
          aria-describedby="week-wrong"
          onChange={(event) => {
            setTyped(event.target.value);
            const read = parseWeek(event.target.value);
            if (typeof read !== "string") {
              setWeek(read);
            }
          }}
        />
        <span id="week-wrong" role="status" className="text-failed">
          {wrong}
        </span>
      </label>
      {elsewhere && touched && (
        <p role="status" className="mt-1 text-xs text-held">
          Somebody changed these hours while you were editing.{" "}
          <button type="button" className="underline" onClick={take}>
            Show theirs
          </button>
        </p>
      )}
      {!exact && (
        <p className="mt-1 text-xs text-held">
          These hours are no half hours; the grid shows them rounded, and keeps what it shows.
        </p>
      )}
      {kept?.exceptions.map((e) => (
        <p key={e.date} className="mt-1 text-xs text-muted">
          <span className="num">{e.date}</span> {e.windows || "never"} {e.note && `– ${e.note}`}
        </p>
      ))}
      {may && (
        <div className="mt-2 flex flex-wrap items-center gap-2 text-xs">
          <label className="flex items-center gap-1 text-muted">
            time zone
            <input
              className="input w-44 input-xs"
              list="zones"
              placeholder="UTC"
              value={zone}
              onChange={(event) => setZone(event.target.value)}
            />
          </label>
          <datalist id="zones">
            {zones.map((z) => (
              <option key={z} value={z} />
            ))}
          </datalist>
          <span className="grow" />
          {kept !== null && (
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              onClick={() => onChange({ nodes: [node.id], always: true }, "Always on duty")}
            >
              Always on duty
            </button>
          )}
          <button
            type="button"
            className="btn btn-xs"
            disabled={!changed || wrong !== ""}
            onClick={() =>
              onChange(
                { nodes: [node.id], hours: { zone, week: painted, exceptions: kept?.exceptions ?? [] } },
                "Keep these hours",
              )
            }
          >
            Keep these hours
          </button>
        </div>
      )}
    </section>
  );
}
