/** For whoever is not signed in: how to be. */
import { words } from "../../words";

export function SignInPage() {
  const used = new URLSearchParams(window.location.search).has("link");
  return (
    <main className="mx-auto mt-[16vh] max-w-xl px-6">
      <h1 className="text-3xl font-semibold text-sea">{words.signIn.title}</h1>
      {used && <p className="mt-3 font-semibold text-trouble">{words.signIn.used}</p>}
      <p className="mt-3 text-quiet">{words.signIn.how}</p>
      <pre className="mt-3 overflow-x-auto rounded-md border border-line bg-sheet px-4 py-3 font-mono text-sm">
        {words.signIn.command}
      </pre>
    </main>
  );
}
