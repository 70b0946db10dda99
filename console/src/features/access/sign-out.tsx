import { useSignOut } from "./queries";

/** Signs out, within a sentence. */
export function SignOut() {
  const signOut = useSignOut();
  return (
    <button type="button" className="text-ink underline" onClick={() => void signOut()}>
      Sign out
    </button>
  );
}
