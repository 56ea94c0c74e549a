import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Channel, type ChannelSet, isWrangler, type Me, setChannel } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { Field } from "../../parts/Field";
import { names } from "../../parts/names";
import { TimeOfDay } from "../../parts/TimeOfDay";

interface Props {
  me: Me;
  of?: Channel; // none: a new one
  events: string[];
  mail: boolean; // the service has a mail server
  onSecret: (secret: string) => void; // of a new webhook
  onClose: () => void;
}

/** Makes or changes a channel. */
export function ChannelDialog({ me, of, events, mail, onSecret, onClose }: Props) {
  const queries = useQueryClient();
  const [name, setName] = useState(of?.name ?? "");
  const [form, setForm] = useState<Required<Omit<ChannelSet, "new_secret">>>({
    of: of?.of ?? "webhook",
    to: of?.to ?? "",
    person: of?.person ?? "",
    events: of?.events ?? [],
    projects: of?.projects ?? [],
    quiet_from: of?.quiet_from ?? "",
    quiet_to: of?.quiet_to ?? "",
    zone: of?.zone || Intl.DateTimeFormat().resolvedOptions().timeZone,
    urgent: of?.urgent ?? true,
    on_call: of?.on_call ?? false,
    off: of?.off ?? false,
  });
  const change = (some: Partial<typeof form>) => setForm((old) => ({ ...old, ...some }));
  const keep = async () => {
    const made = await setChannel(name.trim(), of?.etag, form);
    await queries.invalidateQueries({ queryKey: ["channels"] });
    if (made.secret) {
      onSecret(made.secret);
    }
  };
  const input = "input input-sm w-full text-base-content";
  return (
    <Confirm
      title={of ? `Change ${of.name}` : "New channel"}
      yes={of ? "Keep it" : "Make it"}
      disabled={name.trim() === "" || form.to.trim() === ""}
      onYes={keep}
      onNo={onClose}
    >
      <div className="grid gap-3 sm:grid-cols-2">
        <Field name="Name">
          <input className={input} value={name} disabled={of !== undefined} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Field name="Kind">
          <select
            className="select w-full select-sm text-base-content"
            value={form.of}
            onChange={(e) => change({ of: e.target.value as ChannelSet["of"] })}
          >
            <option value="webhook">webhook</option>
            <option value="mail" disabled={!mail}>
              {mail ? "e-mail" : "e-mail (the service has no mail server)"}
            </option>
          </select>
        </Field>
        <Field name={form.of === "mail" ? "Address" : "URL"} className="sm:col-span-2">
          <input
            className={input}
            value={form.to}
            placeholder={form.of === "mail" ? "nadia@pellmarsh.example" : "https://chat.example/hooks/farm"}
            onChange={(e) => change({ to: e.target.value })}
          />
        </Field>
        {isWrangler(me) && (
          <Field name="Whose (empty: the farm's)">
            <input className={input} value={form.person} onChange={(e) => change({ person: e.target.value.trim() })} />
          </Field>
        )}
        <Field name="Only of projects (empty: all)">
          <input
            className={input}
            defaultValue={form.projects.join(", ")}
            onBlur={(e) => change({ projects: names(e.target.value) })}
          />
        </Field>
      </div>
      <fieldset className="mt-3">
        <legend className="text-xs">Tells of (none chosen: all)</legend>
        <div className="mt-1 flex flex-wrap gap-x-4 gap-y-1 text-[13px] text-base-content">
          {events.map((e) => (
            <label key={e} className="flex min-h-6 items-center gap-1">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={form.events.includes(e)}
                onChange={(c) =>
                  change({ events: c.target.checked ? [...form.events, e] : form.events.filter((o) => o !== e) })
                }
              />
              {e}
            </label>
          ))}
        </div>
      </fieldset>
      <div className="mt-3 grid gap-3 sm:grid-cols-3">
        <Field name="Quiet from">
          <TimeOfDay className={input} value={form.quiet_from} onChange={(at) => change({ quiet_from: at })} />
        </Field>
        <Field name="until">
          <TimeOfDay className={input} value={form.quiet_to} onChange={(at) => change({ quiet_to: at })} />
        </Field>
        <Field name="Time zone">
          <input className={input} value={form.zone} onChange={(e) => change({ zone: e.target.value.trim() })} />
        </Field>
      </div>
      <div className="mt-3 flex flex-wrap gap-x-5 gap-y-1 text-[13px] text-base-content">
        {(
          [
            ["urgent", "what is urgent comes in quiet hours, too"],
            ["on_call", "only while its person is on call"],
            ["off", "switched off"],
          ] as const
        ).map(([key, text]) => (
          <label key={key} className="flex min-h-6 items-center gap-1">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={form[key]}
              onChange={(e) => change({ [key]: e.target.checked })}
            />
            {text}
          </label>
        ))}
      </div>
    </Confirm>
  );
}
