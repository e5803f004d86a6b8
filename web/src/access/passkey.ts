import { send } from "../api/client";

/* Web Authentication, level 3: browsers read and write the JSON forms themselves. */

/** Whether a passkey can be used here: in a browser that knows them, at a name and not an address. */
export function passkeysWork(): boolean {
  return (
    "PublicKeyCredential" in window &&
    "parseCreationOptionsFromJSON" in PublicKeyCredential &&
    !/^[\d.]+$|:/.test(location.hostname)
  );
}

/** The options of a ceremony, which the description leaves to the standard. */
const publicKeyOf = (begun: { options: object }): unknown =>
  (begun.options as { publicKey: unknown }).publicKey;

export async function makePasskey(password: string, name: string): Promise<void> {
  const begun = await send("account/passkeys", { password });
  const made = await navigator.credentials.create({
    publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(
      publicKeyOf(begun) as PublicKeyCredentialCreationOptionsJSON,
    ),
  });
  const passkey = (made as PublicKeyCredential).toJSON() as Record<string, never>;
  await send("account/passkeys/finish", { ceremony: begun.ceremony, name, passkey });
}

export async function showPasskey(): Promise<void> {
  const begun = await send("session/passkey", {});
  const shown = await navigator.credentials.get({
    publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(
      publicKeyOf(begun) as PublicKeyCredentialRequestOptionsJSON,
    ),
  });
  const passkey = (shown as PublicKeyCredential).toJSON() as Record<string, never>;
  await send("session/passkey/finish", { ceremony: begun.ceremony, passkey });
}
