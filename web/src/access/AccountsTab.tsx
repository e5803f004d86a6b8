import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  ask,
  change as changePart,
  remove,
  send,
  type Account,
  type AccountCode,
  type Body,
} from "../api/client";
import { button, entry, Field, mainButton } from "../parts/Field";
import { Mark } from "../parts/Mark";
import { Failed, Once } from "../parts/Said";
import { Sure } from "../parts/Sure";
import { cell, row, Table } from "../parts/Table";
import { roles, RightsFields, seen, selectors } from "./RightsFields";

/** Accounts of people. */
export function AccountsTab() {
  const client = useQueryClient();
  const all = useQuery({ queryKey: ["accounts"], queryFn: () => ask("accounts") });
  const [code, setCode] = useState<AccountCode>();
  const [open, setOpen] = useState("");
  const changed = () => client.invalidateQueries({ queryKey: ["accounts"] });
  return (
    <>
      <NewAccount
        made={(c) => {
          setCode(c);
          void changed();
        }}
      />
      {code && (
        <Once label={`Code for ${code.account}`} secret={code.code}>
          It is shown this once, is for one use and good for 7 days; with it {code.account} sets a password.
        </Once>
      )}
      <Failed error={all.error} />
      <Table head={["account", "role", "sees", "logs in with", ">sessions", ""]}>
        {all.data?.accounts.map((a) => (
          <AccountRow
            key={a.name}
            account={a}
            open={open === a.name}
            toggle={() => setOpen(open === a.name ? "" : a.name)}
            changed={changed}
            coded={setCode}
          />
        ))}
      </Table>
    </>
  );
}

function NewAccount({ made }: { made: (code: AccountCode) => void }) {
  const [name, setName] = useState("");
  const [rights, setRights] = useState({ role: "viewer", sees: "" });
  const add = useMutation({
    mutationFn: () =>
      send("accounts", { name, role: rights.role as Account["role"], sees: selectors(rights.sees) }),
    onSuccess: (code) => {
      setName("");
      made(code);
    },
  });
  return (
    <>
      <div className="flex flex-wrap items-end gap-3">
        <Field label="New account">
          <input
            className={entry}
            name="account"
            value={name}
            autoComplete="off"
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <RightsFields roles={roles} value={rights} onChange={setRights} />
        <button
          type="button"
          className={mainButton}
          disabled={!name || add.isPending}
          onClick={() => add.mutate()}
        >
          Create
        </button>
      </div>
      <Failed error={add.error} />
    </>
  );
}

function factors(a: Account): string {
  const out = [
    a.provider && "provider",
    a.password && "password",
    a.authenticator && "authenticator",
    a.passkeys > 0 && `${a.passkeys} passkey${a.passkeys > 1 ? "s" : ""}`,
  ].filter(Boolean);
  return out.join(" + ") || "its code, once";
}

interface RowProps {
  account: Account;
  open: boolean;
  toggle: () => void;
  changed: () => void;
  coded: (code: AccountCode) => void;
}

function AccountRow({ account: a, open, toggle, changed, coded }: RowProps) {
  const of = { account: a.name };
  const [rights, setRights] = useState({ role: a.role as string, sees: a.sees.join(" ") });
  const done = { onSuccess: changed };
  const change = useMutation({
    mutationFn: (body: Body<"accounts/{account}", "patch">) => changePart("accounts/{account}", body, of),
    ...done,
  });
  const take = useMutation({ mutationFn: () => remove("accounts/{account}", of), ...done });
  const logOut = useMutation({ mutationFn: () => remove("accounts/{account}/sessions", of), ...done });
  const code = useMutation({
    mutationFn: () => send("accounts/{account}/code", {}, of),
    onSuccess: coded,
  });
  return (
    <>
      <tr className={row} data-account={a.name}>
        <td className={cell}>
          {a.name} {a.locked && <Mark look="bad">locked</Mark>}
        </td>
        <td className={cell}>{a.role}</td>
        <td className={cell}>{seen(a.sees)}</td>
        <td className={cell}>{factors(a)}</td>
        <td className={`${cell} text-right`}>{a.sessions}</td>
        <td className={`${cell} text-right`}>
          <button
            type="button"
            className="text-water underline underline-offset-4"
            aria-expanded={open}
            onClick={toggle}
          >
            Change
          </button>
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={6} className="bg-paper px-3 py-3">
            <div className="flex flex-wrap items-end gap-3">
              <RightsFields roles={roles} value={rights} onChange={setRights} />
              <button
                type="button"
                className={mainButton}
                onClick={() =>
                  change.mutate({ role: rights.role as Account["role"], sees: selectors(rights.sees) })
                }
              >
                Save
              </button>
              <button type="button" className={button} onClick={() => change.mutate({ locked: !a.locked })}>
                {a.locked ? "Unlock" : "Lock"}
              </button>
              <button type="button" className={button} onClick={() => logOut.mutate()}>
                Log out everywhere
              </button>
              <button type="button" className={button} onClick={() => code.mutate()}>
                New code
              </button>
              <Sure
                name="Remove"
                question={`The account ${a.name} goes, with its sessions and passkeys. What it did stays in the audit.`}
                className={`${button} text-bad`}
                onYes={() => take.mutate()}
              />
            </div>
            <Failed error={change.error ?? take.error ?? code.error} />
          </td>
        </tr>
      )}
    </>
  );
}
