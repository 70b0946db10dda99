/** What the browser and a passkey say to each other (Web Authentication, W3C), as JSON. */

type Json = Record<string, unknown>;

/** Whether passkeys work here: the browser knows them, and the page is open under a name. */
export const hasPasskeys = () =>
  window.isSecureContext && typeof PublicKeyCredential !== "undefined" && "parseRequestOptionsFromJSON" in PublicKeyCredential && !/^[\d.:[\]]+$/.test(window.location.hostname);

const NOT_DONE = "No passkey was used. Try again, or go another way.";

/** Have the device make a passkey. */
export async function makePasskey(options: Json): Promise<string> {
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(options as unknown as PublicKeyCredentialCreationOptionsJSON);
  return asJson(() => navigator.credentials.create({ publicKey }));
}

/** Have the device show a passkey. */
export async function showPasskey(options: Json): Promise<string> {
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options as unknown as PublicKeyCredentialRequestOptionsJSON);
  return asJson(() => navigator.credentials.get({ publicKey }));
}

async function asJson(ask: () => Promise<Credential | null>): Promise<string> {
  let made: Credential | null;
  try {
    made = await ask();
  } catch (error) {
    throw new Error(error instanceof DOMException && error.name === "InvalidStateError" ? "This device has a passkey for you already." : NOT_DONE, { cause: error });
  }
  if (!(made instanceof PublicKeyCredential)) throw new Error(NOT_DONE);
  return JSON.stringify(made.toJSON());
}
