import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { makePasskey, passkeysWork } from "../access/passkey";
import { ask, remove, send, type OwnAccount } from "../api/client";
import { useSession } from "../api/hooks";
import { moment } from "../format";
import { button, entry, Field, mainButton } from "../parts/Field";
import { Failed, Once } from "../parts/Said";
import { cell, row, Table } from "../parts/Table";

/** One's own account: password, second factors, and where one is logged in. */
export function AccountPage() {
  const session = useSession();
  const client = useQueryClient();
  const mine = useQuery({
    queryKey: ["account"],
    queryFn: () => ask("account"),
    enabled: session.data?.kind === "account",
  });
  const changed = () => client.invalidateQueries({ queryKey: ["account"] });
  const end = useMutation({
    mutationFn: (id: string) => remove("account/sessions/{session}", { session: id }),
    onSuccess: changed,
  });
  const code = useMutation({ mutationFn: () => send("account/code", {}) });
  if (session.data && session.data.kind !== "account")
    return <p className="mt-8">Nobody is logged in; this service asks for no login on its own machine.</p>;
  const a = mine.data?.account;
  return (
    <>
      <h1 className="text-2xl font-semibold">{a?.name ?? "Account"}</h1>
      <Failed error={mine.error} />
      {a && (
        <p className="mt-1 text-soft">
          {a.role}, sees {a.sees.length === 0 ? "everything" : a.sees.join(", ")}
          {a.provider && ", logs in at a provider"}
        </p>
      )}
      {a?.password && (
        <div className="mt-4 grid items-start gap-4 desk:grid-cols-3">
          <PasswordSheet />
          <AuthenticatorSheet has={a.authenticator} changed={changed} />
          <PasskeySheet mine={mine.data} changed={changed} />
        </div>
      )}
      <h2 className="mt-6 text-lg font-semibold">Where you are logged in</h2>
      <Table head={["with", "from", "since", "last used", "ends", ""]}>
        {mine.data?.sessions.map((s) => (
          <tr key={s.id} className={row} data-session={s.id}>
            <td className={cell}>
              {s.by}
              <span className="text-sm text-soft"> {program(s.agent)}</span>
            </td>
            <td className={cell}>{s.from}</td>
            <td className={`${cell} whitespace-nowrap`}>{moment(s.created)}</td>
            <td className={`${cell} whitespace-nowrap`}>{moment(s.used)}</td>
            <td className={`${cell} whitespace-nowrap`}>{moment(s.ends)}</td>
            <td className={`${cell} text-right whitespace-nowrap`}>
              {s.present ? (
                <span className="text-soft">this one</span>
              ) : (
                <button
                  type="button"
                  className="text-water underline underline-offset-4"
                  onClick={() => end.mutate(s.id)}
                >
                  Log out
                </button>
              )}
            </td>
          </tr>
        ))}
      </Table>
      <p className="mt-3">
        <button type="button" className={button} onClick={() => code.mutate()}>
          A code for the command line
        </button>
      </p>
      {code.data && (
        <Once label="nexocumula login --code" secret={code.data.code}>
          For one use, good for 10 minutes.
        </Once>
      )}
      <Failed error={end.error ?? code.error} />
      {session.data?.fingerprint && (
        <p className="mt-6 text-sm break-all text-soft">
          The certificate of this service has the fingerprint (SHA-256) {session.data.fingerprint}
        </p>
      )}
    </>
  );
}

/** What a program says it is, in short. */
function program(agent: string): string {
  const name = /(Firefox|Edg|Chrome|Safari|nexocumula)/.exec(agent)?.[1]?.replace("Edg", "Edge");
  const system = /(Windows|Android|iPhone|iPad|Mac OS X|Linux)/.exec(agent)?.[1];
  return [name ?? agent.slice(0, 30), system].filter(Boolean).join(" on ");
}

function Sheet({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section
      aria-label={title}
      className="flex flex-col gap-3 rounded-sheet border border-rule bg-sheet px-3 py-3"
    >
      <h2 className="font-semibold">{title}</h2>
      {children}
    </section>
  );
}

interface PasswordProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
  fresh?: boolean;
}

function PasswordEntry({ label, value, onChange, fresh }: PasswordProps) {
  return (
    <Field label={label}>
      <input
        className={entry}
        type="password"
        autoComplete={fresh ? "new-password" : "current-password"}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
    </Field>
  );
}

function PasswordSheet() {
  const [present, setPresent] = useState("");
  const [password, setPassword] = useState("");
  const set = useMutation({
    mutationFn: () => send("account/password", { present, password }),
    onSuccess: () => {
      setPresent("");
      setPassword("");
    },
  });
  return (
    <Sheet title="Password">
      <PasswordEntry label="Present password" value={present} onChange={setPresent} />
      <PasswordEntry
        label="New password, 12 characters or more"
        value={password}
        onChange={setPassword}
        fresh
      />
      <div>
        <button
          type="button"
          className={mainButton}
          disabled={set.isPending || !present || !password}
          onClick={() => set.mutate()}
        >
          Change
        </button>
      </div>
      {set.isSuccess && (
        <p role="status" className="text-good">
          Password changed. All your other sessions have ended.
        </p>
      )}
      <Failed error={set.error} />
    </Sheet>
  );
}

function AuthenticatorSheet({ has, changed }: { has: boolean; changed: () => void }) {
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const begin = useMutation({ mutationFn: () => send("account/authenticator", { password }) });
  const over = () => {
    begin.reset();
    setPassword("");
    setCode("");
    changed();
  };
  const finish = useMutation({
    mutationFn: () =>
      send("account/authenticator/finish", { password, secret: begin.data?.secret ?? "", code }),
    onSuccess: over,
  });
  const forget = useMutation({
    mutationFn: () => send("account/authenticator/remove", { password }),
    onSuccess: over,
  });
  return (
    <Sheet title="Authenticator">
      <p className="text-soft">
        {has ? "Its code is asked for beside the password." : "A program on your phone that shows codes."}
      </p>
      {!begin.data && <PasswordEntry label="Present password" value={password} onChange={setPassword} />}
      {begin.data ? (
        <>
          <img src={begin.data.image} alt="To be photographed by the authenticator" className="self-start" />
          <p className="font-mono text-sm break-all">{begin.data.secret}</p>
          <Field label="Code that it shows now">
            <input
              className={entry}
              inputMode="numeric"
              autoComplete="one-time-code"
              value={code}
              onChange={(e) => setCode(e.target.value)}
            />
          </Field>
          <div>
            <button type="button" className={mainButton} disabled={!code} onClick={() => finish.mutate()}>
              Confirm
            </button>
          </div>
        </>
      ) : (
        <div>
          <button
            type="button"
            className={button}
            disabled={!password}
            onClick={() => (has ? forget.mutate() : begin.mutate())}
          >
            {has ? "Ask for it no more" : "Set one up"}
          </button>
        </div>
      )}
      <Failed error={begin.error ?? finish.error ?? forget.error} />
    </Sheet>
  );
}

function PasskeySheet({ mine, changed }: { mine: OwnAccount | undefined; changed: () => void }) {
  const [password, setPassword] = useState("");
  const [name, setName] = useState("");
  const over = () => {
    setPassword("");
    setName("");
    changed();
  };
  const make = useMutation({ mutationFn: () => makePasskey(password, name), onSuccess: over });
  const forget = useMutation({
    mutationFn: (id: string) => send("account/passkeys/remove", { password, id }),
    onSuccess: over,
  });
  return (
    <Sheet title="Passkeys">
      <p className="text-soft">Let you in without the password, and stand for both factors.</p>
      {mine?.passkeys.map((k) => (
        <p key={k.id} data-passkey={k.name}>
          {k.name} <span className="text-sm text-soft">used {moment(k.used)}</span>{" "}
          <button
            type="button"
            className="text-water underline underline-offset-4 disabled:opacity-40"
            disabled={!password}
            onClick={() => forget.mutate(k.id)}
          >
            Remove
          </button>
        </p>
      ))}
      {passkeysWork() ? (
        <>
          <PasswordEntry label="Present password" value={password} onChange={setPassword} />
          <Field label="Name of a new one">
            <input
              className={entry}
              name="passkey"
              placeholder="phone"
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </Field>
          <div>
            <button
              type="button"
              className={button}
              disabled={!password || make.isPending}
              onClick={() => make.mutate()}
            >
              Make a passkey
            </button>
          </div>
        </>
      ) : (
        <p className="text-sm text-soft">
          They need the service to be reached by a name, and not by {location.hostname}.
        </p>
      )}
      <Failed error={make.error ?? forget.error} />
    </Sheet>
  );
}
