/** Each kind of repository with a database of its own, and with what its language brings: Python, Java, a worker of the shell. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { ResourceDetail } from '../../src/wire/environments/resources.js';
import { openWorld, until, type World } from './world.js';

let world: World;
beforeAll(async () => {
  world = await openWorld();
});
afterAll(() => world?.close());

/** The client of PostgreSQL is the one driver that needs no package registry. */
const psql = '/usr/lib/postgresql/15/bin/psql';
const migration = 'create table if not exists notes (id serial primary key, text text not null);\n';

const python = `import os, subprocess
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import unquote

def ask(sql, *values):
    settings = [word for at, value in enumerate(values) for word in ("-v", f"v{at}={value}")]
    done = subprocess.run(["${psql}", os.environ["DATABASE_URL"], "-XAtq", "-v", "ON_ERROR_STOP=1", *settings], input=sql, text=True, capture_output=True, check=True)
    return done.stdout

class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        self.give(ask("select coalesce(json_agg(text order by id), '[]') from notes"))
    def do_POST(self):
        ask("insert into notes (text) values (:'v0')", unquote(self.path[len("/add/"):]))
        self.give("kept")
    def give(self, text):
        self.send_response(200)
        self.end_headers()
        self.wfile.write(text.encode())
    def log_message(self, *_):
        pass

ThreadingHTTPServer(("", int(os.environ["PORT"])), Handler).serve_forever()
`;

const java = `package shelf;
import com.sun.net.httpserver.HttpServer;
import java.net.InetSocketAddress;
import java.net.URLDecoder;
import java.nio.charset.StandardCharsets;

public final class Server {
  static byte[] ask(String sql, String value) throws Exception {
    Process child = new ProcessBuilder("${psql}", System.getenv("DATABASE_URL"), "-XAtq", "-v", "ON_ERROR_STOP=1", "-v", "v0=" + value).start();
    child.getOutputStream().write(sql.getBytes(StandardCharsets.UTF_8));
    child.getOutputStream().close();
    byte[] said = child.getInputStream().readAllBytes();
    if (child.waitFor() != 0) throw new IllegalStateException(new String(child.getErrorStream().readAllBytes(), StandardCharsets.UTF_8));
    return said;
  }
  public static void main(String[] words) throws Exception {
    HttpServer server = HttpServer.create(new InetSocketAddress(Integer.parseInt(System.getenv("PORT"))), 0);
    server.createContext("/", exchange -> {
      try {
        String path = exchange.getRequestURI().getRawPath();
        byte[] said;
        if (exchange.getRequestMethod().equals("POST")) {
          ask("insert into notes (text) values (:'v0')", URLDecoder.decode(path.substring("/add/".length()), StandardCharsets.UTF_8));
          said = "kept".getBytes(StandardCharsets.UTF_8);
        } else said = ask("select coalesce(json_agg(text order by id), '[]') from notes", "");
        exchange.sendResponseHeaders(200, said.length);
        exchange.getResponseBody().write(said);
        exchange.close();
      } catch (Exception error) {
        error.printStackTrace();
        exchange.sendResponseHeaders(500, -1);
        exchange.close();
      }
    });
    server.start();
  }
}
`;

const worker = `#!/bin/bash
# Counts up for as long as it runs.
while sleep 0.7; do
  ${psql} "$DATABASE_URL" -Xq -v ON_ERROR_STOP=1 -c "insert into notes (text) values ('tick')"
done
`;

const definition = (tasks: string, parts: string) => `tsunagi: 1
${tasks}
release:
  parts:
${parts}
  resources: { shelf: { kind: postgres } }
  prepare: { part: api, run: ${psql} "$DATABASE_URL" -Xq -f notes.sql }
  variables: { DATABASE_URL: { from: shelf.url } }
environments:
  staging: { branch: main }
  second: {}
`;

const kinds: Record<string, Record<string, string>> = {
  python: {
    'server.py': python,
    'tsunagi.yaml': definition(
      'tasks: { compile: { reads: [server.py], run: python3 -c "import ast; ast.parse(open(\'server.py\').read())" } }',
      '    api: { kind: server, files: [server.py, notes.sql], start: exec python3 server.py, ready: / }',
    ),
  },
  java: {
    'src/shelf/Server.java': java,
    'tsunagi.yaml': definition(
      "tools: { java: '>=17' }\ntasks: { compile: { reads: [src/], run: javac -d build src/shelf/Server.java, makes: [build/] } }",
      '    api: { kind: server, needs: [compile], files: [notes.sql], start: exec java -cp build shelf.Server, ready: / }',
    ),
  },
};

describe('a repository', () => {
  it.each(Object.keys(kinds))('of %s keeps what it is told in a database of each environment', async (kind) => {
    const name = `shelf-${kind}`;
    const { checkout, first } = await world.hosted(name, { 'notes.sql': migration, ...kinds[kind] });
    await checkout.push();
    await world.waitLive(name, 'staging', first);
    const at = (environment: string) => `${name}-${environment}.localhost`;
    const notes = async (environment: string) => JSON.parse((await world.visit(at(environment), '/')).text);
    // What would end a statement that was pasted together is a text like any other.
    for (const text of ['a boat', "'); drop table notes; --"])
      expect((await world.visit(at('staging'), `/add/${encodeURIComponent(text)}`, { method: 'POST' })).text).toBe(
        'kept',
      );
    expect(await notes('staging')).toEqual(['a boat', "'); drop table notes; --"]);
    // Another environment has its own.
    const { number } = await world.act(name, 'second', { kind: 'deploy', release: 1 });
    expect((await world.waitDeployment(name, number)).state).toBe('live');
    expect(await notes('second')).toEqual([]);
    // A new release, with the data of before.
    const next = await checkout.commitAndPush({ 'notes.sql': `${migration}-- again\n` }, 'Again');
    await world.waitLive(name, 'staging', next);
    expect(await notes('staging')).toHaveLength(2);
    const { state, logins } = await world
      .api()
      .get<ResourceDetail>(`/api/projects/${name}/environments/staging/resources/shelf`);
    expect([state, logins.some((one) => one.usedBy === 'parts' && one.state === 'ready')]).toEqual(['ready', true]);
  });

  it('of a worker alone writes on while its releases change, never two at once', async () => {
    const { checkout, first } = await world.hosted('shelf-worker', {
      'notes.sql': migration,
      'tick.sh': worker,
      'tsunagi.yaml': definition(
        '',
        '    api: { kind: worker, files: [tick.sh, notes.sql], start: exec bash tick.sh }',
      ).replace('  second: {}\n', ''),
    });
    await checkout.push();
    await world.waitLive('shelf-worker', 'staging', first);
    const path = '/api/projects/shelf-worker/environments/staging/resources/shelf';
    const count = async () =>
      (
        await world
          .api()
          .get<{ rows: unknown[] }>(`${path}/rows?schema=public&table=notes`)
          .catch(() => ({ rows: [] }))
      ).rows.length;
    await until('it has written', async () => (await count()) > 1);
    const next = await checkout.commitAndPush({ 'tick.sh': `${worker}# again\n` }, 'Again');
    const live = await world.waitLive('shelf-worker', 'staging', next);
    const before = await count();
    await until('the new one writes', async () => (await count()) > before);
    expect(live.instanceList.filter((one) => one.state === 'ready' || one.state === 'starting')).toHaveLength(1);
  });
});
