import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Channel, dropChannel, getChannels, isWrangler, type Me, tryChannel } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { useTitle } from "../../parts/title";
import { useToast } from "../../parts/toast";
import { ChannelDialog } from "./ChannelDialog";
import { OnCallPart } from "./OnCallPart";
import { SentPart } from "./SentPart";

/** Who is told of what outside the farm, who is on call, and what was sent. */
export function NoticesPage({ me }: { me: Me }) {
  useTitle("Notices");
  const channels = useQuery({ queryKey: ["channels"], queryFn: getChannels, refetchInterval: 10_000 });
  const [asked, setAsked] = useState<Channel | "new" | null>(null);
  const [secret, setSecret] = useState("");
  const list = channels.data?.channels ?? [];
  return (
    <main className="max-w-[1000px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="border-b border-hair pb-3">
        <h1 className="text-xl font-[650]">Notices</h1>
        <p className="text-[13px] text-muted">
          What people and programs are told outside the farm: by signed webhooks and by e-mail.
        </p>
      </header>
      <section aria-label="Channels">
        <h2 className="section">
          <b>Channels</b> {isWrangler(me) ? "of all" : "of yours"}
          <button type="button" className="btn ml-auto btn-xs" onClick={() => setAsked("new")}>
            New channel
          </button>
        </h2>
        {channels.isError && <p className="text-failed">✕ {channels.error.message}</p>}
        {channels.data && list.length === 0 && <p className="py-2 text-muted">Nobody is told of anything yet.</p>}
        <ul>
          {list.map((c) => (
            <ChannelRow key={c.name} channel={c} onChange={() => setAsked(c)} />
          ))}
        </ul>
      </section>
      <OnCallPart wrangler={isWrangler(me)} />
      <SentPart />
      {asked !== null && channels.data && (
        <ChannelDialog
          me={me}
          of={asked === "new" ? undefined : asked}
          events={channels.data.events}
          mail={channels.data.mail}
          onSecret={setSecret}
          onClose={() => setAsked(null)}
        />
      )}
      {secret !== "" && (
        <Confirm title="The channel is there" yes="I have it" onYes={() => undefined} onNo={() => setSecret("")}>
          <p>Its messages are signed with this secret, which is not shown again:</p>
          <p className="num mt-2 rounded bg-base-300 p-2 break-all text-base-content select-all">{secret}</p>
        </Confirm>
      )}
    </main>
  );
}

function ChannelRow({ channel: c, onChange }: { channel: Channel; onChange: () => void }) {
  const tell = useToast();
  const queries = useQueryClient();
  const [drops, setDrops] = useState(false);
  const attempt = () =>
    tryChannel(c.name)
      .then(() => {
        tell({ text: `A trial is on its way to ${c.name}.` });
        void queries.invalidateQueries({ queryKey: ["notices"] });
      })
      .catch((error: Error) => tell({ text: error.message, bad: true }));
  return (
    <li className="grid items-center gap-x-4 gap-y-1 border-b border-hair py-2 sm:grid-cols-[150px_minmax(0,1fr)_auto]">
      <span className="min-w-0">
        <b className="block truncate font-semibold" title={c.name}>
          {c.name}
        </b>
        <span className="text-xs text-muted">{c.person ? `of ${c.person}` : "of the farm"}</span>
      </span>
      <span className="min-w-0 text-[13px]">
        <span className="block truncate" title={c.to}>
          {c.of === "mail" ? "e-mail to" : "webhook to"} {c.to}
        </span>
        <span className="block text-xs text-muted">{wordsOf(c)}</span>
        {c.off && <span className="block text-xs text-failed">✕ off{c.why && `: ${c.why}`}</span>}
      </span>
      <span className="flex flex-wrap gap-2">
        {!c.off && (
          <button type="button" className="btn btn-xs" onClick={() => void attempt()}>
            Try it
          </button>
        )}
        <button type="button" className="btn btn-xs" onClick={onChange}>
          Change
        </button>
        <button type="button" className="btn btn-xs" onClick={() => setDrops(true)}>
          Drop
        </button>
      </span>
      {drops && (
        <Confirm
          title={`Drop the channel ${c.name}?`}
          yes="Drop it"
          danger
          onYes={() =>
            dropChannel(c.name).then(() => {
              tell({ text: `The channel ${c.name} is gone.` });
              return queries.invalidateQueries({ queryKey: ["channels"] });
            })
          }
          onNo={() => setDrops(false)}
        >
          What waits for it is not sent any more.
        </Confirm>
      )}
    </li>
  );
}

/** What a channel tells, and when, in words. */
function wordsOf(c: Channel): string {
  const out = [c.events.length > 0 ? c.events.join(", ") : "tells of all"];
  if (c.projects.length > 0) {
    out.push(`of ${c.projects.join(", ")}`);
  }
  if (c.quiet_from) {
    out.push(`quiet ${c.quiet_from}–${c.quiet_to}${c.urgent ? " but for what is urgent" : ""}`);
  }
  if (c.on_call) {
    out.push("while on call");
  }
  return out.join(" · ");
}
