import { useNavigate } from '@tanstack/react-router';
import { useEffect, useRef, useState } from 'react';
import { useQueryClient } from '@tanstack/react-query';
import { post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';

/** A one-time sign-in stands behind the # of the address, which no server sees; a token is typed. */
export function SignInPage(): React.ReactNode {
  const navigate = useNavigate();
  const client = useQueryClient();
  const [token, setToken] = useState('');
  const [error, setError] = useState<unknown>(null);
  const used = useRef(false);

  const enter = async (body: { code?: string; token?: string }) => {
    try {
      await post('/api/sign-in', body);
      client.clear();
      const then = new URLSearchParams(location.search).get('then');
      const here = then?.startsWith('/') && !/^\/[/\\]/.test(then) ? then : '/';
      // With a question behind it, it is no name of a page that the router knows.
      if (here.includes('?')) return location.assign(here);
      await navigate({ to: here });
    } catch (problem) {
      setError(problem);
    }
  };
  useEffect(() => {
    const code = location.hash.slice(1);
    if (!code || used.current) return;
    used.current = true;
    history.replaceState(null, '', location.pathname + location.search);
    void enter({ code });
  });

  return (
    <main className="mx-auto mt-[14vh] max-w-md px-4">
      <h1 className="title mb-1">Sign in to Tsunagi</h1>
      <p className="mb-6 text-second">
        With a token. The first start of the service prints a one-time sign-in for the owner.
      </p>
      <form
        className="card flex flex-col gap-3 p-6"
        onSubmit={(event) => {
          event.preventDefault();
          void enter({ token });
        }}
      >
        <label htmlFor="token" className="font-semibold">
          Token
        </label>
        <input
          id="token"
          type="password"
          autoComplete="current-password"
          value={token}
          onChange={(event) => setToken(event.target.value)}
          className="code rounded-md border border-line bg-paper px-3 py-2"
        />
        {error ? <Trouble error={error} /> : null}
        <Button kind="main" type="submit" disabled={token === ''} className="self-start">
          Sign in
        </Button>
      </form>
    </main>
  );
}
