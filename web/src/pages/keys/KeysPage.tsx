import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Copy } from "lucide-react";
import { type FormEvent, useState } from "react";
import { getKeys, getPools, isWrangler, type Key, type Me, makeKey, revokeKey } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { NotAllowed } from "../../parts/NotAllowed";
import { clock, useNow, whole } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { useToast } from "../../parts/toast";

const lives: [string, number][] = [
  ["10 minutes", 600],
  ["30 minutes", 1800],
  ["2 hours", 7200],
  ["1 day", 86400],
];

/** Makes enrolment keys, with the command to paste, and shows those there are. */
export function KeysPage({ me }: { me: Me }) {
  useTitle("Enrol machines");
  const keys = useQuery({ queryKey: ["keys"], queryFn: getKeys, refetchInterval: 5000, enabled: isWrangler(me) });
  const pools = useQuery({ queryKey: ["pools"], queryFn: getPools });
  const queries = useQueryClient();
  const tell = useToast();
  const now = useNow();
  const [asked, setAsked] = useState<Key | null>(null);
  const [made, setMade] = useState<Key | null>(null);
  const [form, setForm] = useState({ label: "", seconds: 1800, uses: 1, pool: "" });
  if (!isWrangler(me)) {
    return <NotAllowed me={me} what="Keys that let machines become nodes are made by wranglers." />;
  }
  const refresh = () => queries.invalidateQueries({ queryKey: ["keys"] });
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    try {
      setMade(
        await makeKey({
          label: form.label,
          seconds: form.seconds,
          uses: form.uses,
          pools: form.pool === "" ? [] : [form.pool],
        }),
      );
      await refresh();
    } catch (error) {
      tell({ text: (error as Error).message, bad: true });
    }
  };
  const revoke = async (key: Key) => {
    await revokeKey(key.id);
    await refresh();
    tell({ text: `The key ${key.label || key.id} lets nobody in any more. Nodes that it let in stay.` });
  };
  const command = made && `vexillum join ${window.location.origin} --key ${made.key}`;
  const field = "text-xs text-muted";
  return (
    <main className="max-w-[900px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="border-b border-hair pb-3">
        <h1 className="text-xl font-[650]">Enrol machines</h1>
        <p className="text-[13px] text-muted">
          A key lets machines become nodes for a short while. Make one, and paste the command on the machine.
        </p>
      </header>
      <form onSubmit={(event) => void submit(event)} className="mt-4 flex flex-wrap items-end gap-4">
        <label className={field}>
          good for
          <select
            className="select mt-[2px] flex w-32 select-sm"
            value={form.seconds}
            onChange={(event) => setForm({ ...form, seconds: Number(event.target.value) })}
          >
            {lives.map(([name, seconds]) => (
              <option key={seconds} value={seconds}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <label className={field}>
          machines
          <input
            className="input num mt-[2px] flex w-20 input-sm"
            type="number"
            min={1}
            max={10000}
            value={form.uses}
            onChange={(event) => setForm({ ...form, uses: Number(event.target.value) })}
          />
        </label>
        <label className={field}>
          pool
          <select
            className="select mt-[2px] flex w-36 select-sm"
            value={form.pool}
            onChange={(event) => setForm({ ...form, pool: event.target.value })}
          >
            <option value="">none</option>
            {(pools.data ?? []).map((p) => (
              <option key={p.name}>{p.name}</option>
            ))}
          </select>
        </label>
        <label className={field}>
          what it is for
          <input
            className="input mt-[2px] flex w-44 input-sm"
            maxLength={100}
            value={form.label}
            onChange={(event) => setForm({ ...form, label: event.target.value })}
          />
        </label>
        <button type="submit" className="btn btn-primary btn-sm">
          Make a key
        </button>
      </form>
      {made && command && (
        <section aria-label="The new key" className="mt-4 rounded border border-brass p-3">
          <p className="text-xs text-muted">
            Paste this on {made.uses_left === 1 ? "the machine" : `each of up to ${made.uses_left} machines`} before{" "}
            {clock(made.expires_at, now)}. The key is shown only now.
          </p>
          <div className="mt-2 flex items-start gap-2">
            <code className="num min-w-0 flex-1 text-[12.5px] break-all">{command}</code>
            <button
              type="button"
              className="btn btn-sm"
              onClick={() =>
                void navigator.clipboard.writeText(command).then(
                  () => tell({ text: "The command is copied." }),
                  () => tell({ text: "The browser does not let the page copy; select the text instead.", bad: true }),
                )
              }
            >
              <Copy size={14} aria-hidden="true" /> Copy
            </button>
          </div>
        </section>
      )}
      <h2 className="section">
        <b>Keys</b> {keys.data?.length ?? ""}
      </h2>
      {keys.data?.length === 0 && <p className="text-muted">No key was made in the last ninety days.</p>}
      {keys.data && keys.data.length > 0 && (
        <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="All keys">
          <table className="w-full border-collapse text-[13px]">
            <thead>
              <tr className="border-b border-hair text-left text-[11px] text-muted">
                {["key", "word", "made by", "good until", "uses left", "pools", ""].map((name) => (
                  <th key={name} className="py-1 pr-3 font-normal">
                    {name || <span className="sr-only">revoke</span>}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {keys.data.map((key) => {
                const over = key.revoked
                  ? "revoked"
                  : new Date(key.expires_at).getTime() < now
                    ? "expired"
                    : key.uses_left === 0
                      ? "used up"
                      : "";
                return (
                  <tr key={key.id} className={`border-b border-hair ${over ? "text-muted" : ""}`}>
                    <td className="num py-[5px] pr-3">{key.id}</td>
                    <td className="max-w-[180px] truncate pr-3" title={key.label}>
                      {key.label}
                    </td>
                    <td className="pr-3">{key.created_by}</td>
                    <td className="num pr-3 whitespace-nowrap" title={whole(key.expires_at)}>
                      {clock(key.expires_at, now)}
                    </td>
                    <td className="pr-3">{over || key.uses_left}</td>
                    <td className="max-w-[140px] truncate pr-3" title={key.pools.join(", ")}>
                      {key.pools.join(", ")}
                    </td>
                    <td className="text-right">
                      {!over && (
                        <button type="button" className="btn btn-xs" onClick={() => setAsked(key)}>
                          Revoke
                        </button>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
      {asked && (
        <Confirm
          title={`Revoke the key ${asked.label || asked.id}?`}
          yes="Revoke it"
          danger
          onYes={() => revoke(asked)}
          onNo={() => setAsked(null)}
        >
          {asked.uses_left === 1
            ? "1 machine that was to join with it"
            : `Up to ${asked.uses_left} machines that were to join with it`}{" "}
          cannot any more; make another key for {asked.uses_left === 1 ? "it" : "them"}. Nodes that it let in stay. A
          revoked key cannot be restored.
        </Confirm>
      )}
    </main>
  );
}
