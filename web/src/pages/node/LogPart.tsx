import { memo, useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { type FarmNode, getLog, type LogLine } from "../../api/client";
import { useLive } from "../../api/live";
import { useAwake, whileShown } from "../../parts/awake";
import { Choice } from "../../parts/Choice";
import { clock, whole } from "../../parts/time";

const most = 3000; // lines on the page

/** What the node process and its renderers say: now, and what they said. */
export const LogPart = memo(LinesView, (a, b) => a.node.id === b.node.id);

function LinesView({ node }: { node: Pick<FarmNode, "id"> }) {
  const now = Date.now();
  const awake = useAwake();
  const { line } = useLive(); // it is read anew when a lost line is up again
  const [of, setOf] = useState("all");
  const [search, setSearch] = useState("");
  const [lines, setLines] = useState<LogLine[]>([]);
  const [older, setOlder] = useState(false);
  const [trouble, setTrouble] = useState("");
  const box = useRef<HTMLOListElement>(null);
  const atEnd = useRef(true);
  const [address, setAddress] = useSearchParams();
  const lease = Number(address.get("lease") ?? 0);
  const query = {
    of: of === "node process" ? "node" : "",
    search: search.trim(),
    lease: lease > 0 ? lease : undefined,
  };
  const key = `${query.of} ${query.lease} ${query.search} ${line}`;
  const here = useRef<HTMLElement>(null);
  useEffect(() => {
    if (lease > 0) {
      here.current?.scrollIntoView({ block: "center" }); // one came for what this lease said
    }
  }, [lease]);

  useEffect(() => {
    if (!awake) {
      return;
    }
    let gone = false;
    setLines([]);
    const wanted = (l: LogLine) =>
      (query.of === "" || l.lease === 0) &&
      (lease === 0 || l.lease === lease) &&
      l.text.toLowerCase().includes(query.search.toLowerCase());
    const read = () =>
      getLog(node.id, query)
        .then((out) => {
          if (!gone) {
            setLines(out.lines);
            setOlder(out.older);
            setTrouble("");
          }
        })
        .catch((error: Error) => !gone && setTrouble(error.message));
    const timer = window.setTimeout(() => void read(), 200);
    const live = new EventSource(`/api/v1/nodes/${node.id}/log/live${query.of ? `?of=${query.of}` : ""}`);
    live.addEventListener("lines", (event) => {
      const came = (JSON.parse((event as MessageEvent<string>).data) as LogLine[]).filter(wanted);
      if (came.length > 0) {
        setLines((old) => [...old, ...came].sort((a, b) => a.at.localeCompare(b.at)).slice(-most)); // leases tell at different times
      }
    });
    live.onerror = () => {
      if (live.readyState === EventSource.CLOSED) {
        setTrouble("The connection to the service is lost; new lines appear when it is back.");
      }
    };
    const leave = whileShown(
      () => live.close(),
      () => undefined, // the line of the page is taken up anew, and this with it
    );
    return () => {
      gone = true;
      window.clearTimeout(timer);
      leave();
      live.close();
    };
  }, [node.id, key, awake]);

  useEffect(() => {
    if (atEnd.current && box.current) {
      box.current.scrollTop = box.current.scrollHeight;
    }
  }, [lines]);

  const more = () =>
    getLog(node.id, { ...query, before: lines[0]?.at })
      .then((out) => {
        atEnd.current = false;
        setLines((old) => [...out.lines, ...old].slice(0, most));
        setOlder(out.older);
      })
      .catch((error: Error) => setTrouble(error.message));

  return (
    <section aria-label="Log" ref={here}>
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h2 className="section grow">
          <b>Log</b> what the node process and its renderers say, live; kept for two weeks
        </h2>
        {lease > 0 && (
          <button type="button" className="btn btn-xs" onClick={() => setAddress({}, { replace: true })}>
            lease {lease} alone ×
          </button>
        )}
        <input
          className="input num w-44 input-xs"
          type="search"
          aria-label="Lines that contain"
          placeholder="search"
          value={search}
          onChange={(event) => setSearch(event.target.value)}
        />
        <Choice label="Of" options={["all", "node process"]} chosen={of} onChoose={setOf} />
      </div>
      {trouble && <p className="text-xs text-failed">{trouble}</p>}
      <ol
        ref={box}
        tabIndex={0}
        aria-label="Lines"
        className="num h-64 overflow-auto border border-hair bg-base-200 px-2 py-1 text-[11.5px] leading-[17px]"
        onScroll={(event) => {
          const e = event.currentTarget;
          atEnd.current = e.scrollHeight - e.scrollTop - e.clientHeight < 24;
        }}
      >
        {older && (
          <li>
            <button type="button" className="link text-muted" onClick={() => void more()}>
              older lines
            </button>
          </li>
        )}
        {lines.length === 0 && (
          <li className="text-muted">{query.search ? "No line on record contains this." : "Nothing was said yet."}</li>
        )}
        {lines.map((l, i) => (
          <li key={i} className="grid grid-cols-[76px_70px_minmax(0,1fr)] gap-2 whitespace-pre-wrap break-words">
            <span className="text-faint" title={whole(l.at)}>
              {clock(l.at, now)}
            </span>
            <span className="truncate text-muted" title={l.lease === 0 ? "node process" : `lease ${l.lease}`}>
              {l.lease === 0 ? "node" : `lease ${l.lease}`}
            </span>
            <span className={l.stream === 2 ? "text-failed" : ""}>{l.text}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
