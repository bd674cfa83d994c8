/** For whoever is not signed in: by a name and a password, or by a link. */
import { useState } from "react";
import { CallFailed, send } from "../../api/client";
import { words } from "../../words";

export function SignInPage() {
  const used = new URLSearchParams(window.location.search).has("link");
  const [failure, setFailure] = useState("");
  const [isBusy, setBusy] = useState(false);

  async function signIn(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    setBusy(true);
    setFailure("");
    try {
      await send("sign-in", { name: given.get("name"), password: given.get("password") });
      window.location.assign("/");
    } catch (error) {
      setFailure(error instanceof CallFailed ? error.message : words.signIn.unreachable);
      setBusy(false);
    }
  }

  const field = "mt-1 block w-full rounded-md border border-line bg-sheet px-3 py-2";
  return (
    <main className="mx-auto mt-[14vh] max-w-md px-6">
      <h1 className="text-3xl font-semibold text-sea">{words.signIn.title}</h1>
      {used && <p className="mt-3 font-semibold text-trouble">{words.signIn.used}</p>}
      <form className="mt-6 space-y-4" onSubmit={(event) => void signIn(event)}>
        <label className="block">
          {words.signIn.name}
          <input name="name" autoComplete="username" required autoFocus className={field} />
        </label>
        <label className="block">
          {words.signIn.password}
          <input name="password" type="password" autoComplete="current-password" required className={field} />
        </label>
        <p role="alert" className="min-h-6 font-semibold text-trouble">
          {failure}
        </p>
        <button type="submit" disabled={isBusy} className="rounded-md bg-sea px-4 py-2 font-semibold text-sheet disabled:opacity-60">
          {words.signIn.enter}
        </button>
      </form>
      <p className="mt-8 text-quiet">{words.signIn.how}</p>
      <pre className="mt-3 overflow-x-auto rounded-md border border-line bg-sheet px-4 py-3 font-mono text-sm">{words.signIn.command}</pre>
    </main>
  );
}
