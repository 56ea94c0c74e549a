import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { signIn } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { useTitle } from "../../parts/title";

/** Lets somebody in; ended tells that somebody was signed in a moment ago. */
export function SignIn({ ended }: { ended: boolean }) {
  useTitle("Sign in");
  const queries = useQueryClient();
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);

  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    setBusy(true);
    setProblem("");
    try {
      const me = await signIn(String(data.get("name")), String(data.get("password")));
      queries.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" }); // it was read for somebody else
      queries.setQueryData(["me"], me);
    } catch (error) {
      setProblem((error as Error).message);
      setBusy(false);
    }
  };

  return (
    <main className="grid min-h-screen place-items-center px-6">
      <form onSubmit={(event) => void submit(event)} className="w-full max-w-[300px]">
        <Mark className="mb-5 h-14 w-12" />
        <h1 className="text-xl font-semibold">Vexillum</h1>
        <p className="mb-6 text-muted">
          {ended ? "Your sign-in has ended. Sign in again, and go on where you were." : "Sign in to the farm."}
        </p>
        <label className="mb-3 block">
          <span className="mb-1 block text-xs text-muted">Name</span>
          <input
            name="name"
            className="input w-full"
            autoComplete="username"
            autoCapitalize="none"
            required
            autoFocus
          />
        </label>
        <label className="mb-4 block">
          <span className="mb-1 block text-xs text-muted">Password</span>
          <input name="password" type="password" className="input w-full" autoComplete="current-password" required />
        </label>
        {problem && (
          <p role="alert" className="mb-4 text-failed">
            <span aria-hidden="true">✕ </span>
            {problem}
          </p>
        )}
        <button type="submit" className="btn btn-primary w-full" disabled={busy}>
          Sign in
        </button>
      </form>
    </main>
  );
}
