import { send } from "../api/client";

interface Ceremony {
  ceremony: string;
  options: { publicKey: unknown };
}

/* Web Authentication, level 3: browsers read and write the JSON forms themselves. */

/** Whether a passkey can be used here: in a browser that knows them, at a name and not an address. */
export function passkeysWork(): boolean {
  return (
    "PublicKeyCredential" in window &&
    "parseCreationOptionsFromJSON" in PublicKeyCredential &&
    !/^[\d.]+$|:/.test(location.hostname)
  );
}

export async function makePasskey(password: string, name: string): Promise<void> {
  const begun = await send<Ceremony>("account/passkeys", { password });
  const made = await navigator.credentials.create({
    publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(
      begun.options.publicKey as PublicKeyCredentialCreationOptionsJSON,
    ),
  });
  const passkey = (made as PublicKeyCredential).toJSON() as unknown;
  await send("account/passkeys/finish", { ceremony: begun.ceremony, name, passkey });
}

export async function showPasskey(): Promise<void> {
  const begun = await send<Ceremony>("session/passkey", {});
  const shown = await navigator.credentials.get({
    publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(
      begun.options.publicKey as PublicKeyCredentialRequestOptionsJSON,
    ),
  });
  const passkey = (shown as PublicKeyCredential).toJSON() as unknown;
  await send("session/passkey/finish", { ceremony: begun.ceremony, passkey });
}
