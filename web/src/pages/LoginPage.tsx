import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { passkeysWork, showPasskey } from "../access/passkey";
import { Refusal, send, type Session } from "../api/client";
import { button, entry, Field, mainButton } from "../parts/Field";
import { Failed } from "../parts/Said";

/** Where nobody is logged in: a password, a passkey, a provider, or a code that was given. */
export function LoginPage({ session }: { session: Session }) {
  const [withCode, setWithCode] = useState(session.setup && !session.provider);
  return (
    <section aria-label="Log in" className="mx-auto mt-10 max-w-md">
      <h1 className="text-2xl font-semibold">
        {!withCode ? "Log in" : session.setup ? "The first administrator" : "Set your password"}
      </h1>
      {withCode ? <CodeForm setup={session.setup} /> : <PasswordForm session={session} />}
      {(!session.setup || session.provider) && (
        <p className="mt-6">
          <button
            type="button"
            className="text-water underline underline-offset-4"
            onClick={() => setWithCode(!withCode)}
          >
            {withCode ? "I have a password" : "I was given a code"}
          </button>
        </p>
      )}
    </section>
  );
}

const text = (form: FormData, name: string) => String(form.get(name) ?? "");

/** Everything is asked anew once somebody is logged in. */
function useEntered() {
  const client = useQueryClient();
  return () => client.invalidateQueries();
}

function PasswordForm({ session }: { session: Session }) {
  const entered = useEntered();
  const login = useMutation({
    mutationFn: (form: FormData) =>
      send("session", {
        account: text(form, "account"),
        password: text(form, "password"),
        code: text(form, "code"),
      }),
    onSuccess: entered,
  });
  const passkey = useMutation({ mutationFn: showPasskey, onSuccess: entered });
  const second = login.error instanceof Refusal && login.error.code === "second_factor";
  const [asksCode, setAsksCode] = useState(false);
  if (second && !asksCode) setAsksCode(true);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    login.mutate(new FormData(event.currentTarget));
  };
  return (
    <form onSubmit={submit} className="mt-4 flex flex-col gap-3">
      <Field label="Account">
        <input className={entry} name="account" autoComplete="username" autoCapitalize="none" required />
      </Field>
      <Field label="Password">
        <input className={entry} name="password" type="password" autoComplete="current-password" required />
      </Field>
      {asksCode && (
        <Field label="Code that the authenticator shows">
          <input className={entry} name="code" inputMode="numeric" autoComplete="one-time-code" autoFocus />
        </Field>
      )}
      <div className="flex flex-wrap gap-2">
        <button type="submit" className={mainButton} disabled={login.isPending}>
          Log in
        </button>
        {passkeysWork() && (
          <button
            type="button"
            className={button}
            disabled={passkey.isPending}
            onClick={() => passkey.mutate()}
          >
            Use a passkey
          </button>
        )}
        {session.provider && (
          <a href="/api/v1/session/provider" className={`${button} inline-flex items-center`}>
            Log in at {session.provider}
          </a>
        )}
      </div>
      <Failed error={login.error ?? passkey.error} />
    </form>
  );
}

function CodeForm({ setup }: { setup: boolean }) {
  const entered = useEntered();
  const [twice, setTwice] = useState<Error | null>(null);
  const redeem = useMutation({
    mutationFn: async (form: FormData) => {
      const password = text(form, "password");
      const set = await send("session/redeem", {
        code: text(form, "code"),
        account: text(form, "account"),
        password,
      });
      await send("session", { account: set.account, password });
    },
    onSuccess: entered,
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const same = form.get("password") === form.get("again");
    setTwice(same ? null : new Error("The two passwords are not the same."));
    if (same) redeem.mutate(form);
  };
  return (
    <form onSubmit={submit} className="mt-4 flex flex-col gap-3">
      {setup && (
        <p className="text-soft">
          The service printed a code when it was started. Another one is made by{" "}
          <code>nexocumula recover</code> on its machine.
        </p>
      )}
      <Field label="Code">
        <input
          className={`${entry} font-mono`}
          name="code"
          placeholder="xxxxx-xxxxx-xxxxx-xxxxx"
          autoComplete="off"
          required
        />
      </Field>
      <Field
        label="Account"
        hint={
          setup
            ? "Small letters, digits, - _ . and @"
            : "Can be left empty, where the code is for one account."
        }
      >
        <input
          className={entry}
          name="account"
          autoComplete="username"
          autoCapitalize="none"
          required={setup}
        />
      </Field>
      <Field label="New password" hint="12 characters or more, such as four words">
        <input className={entry} name="password" type="password" autoComplete="new-password" required />
      </Field>
      <Field label="Once more">
        <input className={entry} name="again" type="password" autoComplete="new-password" required />
      </Field>
      <div>
        <button type="submit" className={mainButton} disabled={redeem.isPending}>
          {setup ? "Make the account" : "Set it and log in"}
        </button>
      </div>
      <Failed error={twice ?? redeem.error} />
    </form>
  );
}
