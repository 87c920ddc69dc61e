/** A service, an edge, an agent that die while the traffic moves: the way goes on, or back, and nothing is lost that need not be. */
import { request } from 'node:http';
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Cutover } from '../../src/wire/environments/cutover.js';
import { readState } from '../../src/agent/instances/keeper.js';
import { erring } from './erring.js';
import { inTurn } from './turn.js';
import { type Checkout, noteRoom, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
const host = 'ferry-production.localhost';
const server = erring('/ready');
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, files: [package.json, server.js], start: node server.js, ready: /ready } }
environments:
  staging: { branch: main }
  production: { after: staging, cutover: [mirror for 10s, 30% for 10s, 60% for 10s], guard: { errors: 5% } }
`;

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('ferry', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server('first'),
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await world.waitLive('ferry', 'staging', first);
  const { number } = await world.act('ferry', 'production', { kind: 'promote' });
  await world.waitDeployment('ferry', number);
});
afterAll(() => world?.close());

const ask = (): Promise<{ status: number; text: string }> =>
  new Promise((resolve, reject) => {
    const call = request(
      { host: '127.0.0.1', port: world.house.edgePort, path: '/', headers: { host }, agent: false },
      (answer) => {
        let text = '';
        answer.on('data', (chunk: Buffer) => (text += chunk.toString()));
        answer.on('end', () => resolve({ status: answer.statusCode ?? 0, text }));
        answer.on('error', reject);
      },
    );
    call.on('error', reject);
    call.end();
  });

function traffic() {
  const seen = { answers: 0, lost: 0, errors: 0 };
  let going = true;
  const one = async () => {
    while (going) {
      const answer = await ask().catch(() => null);
      if (!answer) seen.lost++;
      else {
        seen.answers++;
        if (answer.status >= 500) seen.errors++;
      }
      await new Promise((resolve) => setTimeout(resolve, 10));
    }
  };
  const all = Promise.all([one(), one()]);
  return {
    seen,
    stop: async () => {
      going = false;
      await all;
    },
  };
}

async function promote(text: string, errors = 0) {
  const commit = await checkout.commitAndPush({ 'server.js': server(text, errors) }, text);
  const { live } = await world.waitLive('ferry', 'staging', commit);
  return world.act('ferry', 'production', { kind: 'promote', release: live?.release as number });
}
const cutover = () => world.api().get<Cutover>('/api/projects/ferry/environments/production/cutover');
const inStep = (share: number) =>
  until(`it has ${share}`, async () => (await cutover().catch(() => null))?.share === share);

/** One side alone answers. */
async function settled(text: string): Promise<void> {
  for (let at = 0; at < 30; at++) expect((await ask()).text).toBe(text);
}

describe('while the traffic moves', () => {
  it.each(
    inTurn([
      'deployment.cutover:before',
      'deployment.cutover:after',
      'figures.taken:before',
      'figures.taken:after',
      'deployment.verifying:after',
    ]),
  )('a service that dies at %s goes on with it, and nobody notices', async (at) => {
    const text = `through ${at}`;
    const flow = traffic();
    const { number } = await promote(text);
    const note = noteRoom(world, 'service');
    const crash = join(world.folder, 'crash-at');
    // In the mirror, or as soon as something is counted; once.
    writeFileSync(crash, `${at} ${note.path}\n`);
    const ended = await world.waitDeployment('ferry', number);
    note.stop();
    rmSync(crash, { force: true });
    await flow.stop();
    expect([ended.state, ended.failure]).toEqual(['live', null]);
    expect(flow.seen).toMatchObject({ lost: 0, errors: 0 });
    await settled(text);
  });

  it('an edge that dies in a share comes up with it, and what is worse is still seen', async () => {
    const before = (await ask()).text;
    const { number } = await promote('erring', 0.4);
    await inStep(0.3);
    process.kill(world.house.rooms.edge.pid() as number, 'SIGKILL');
    await until('it answers again', () => ask().catch(() => null));
    const flow = traffic();
    const ended = await world.waitDeployment('ferry', number);
    await flow.stop();
    expect(ended).toMatchObject({ state: 'failed', failure: { code: 'cutover_worse' } });
    await settled(before);
    await world.cli('lift', 'ferry/production');
  });

  it('an agent that dies in a share leaves the programs, and the way goes on', async () => {
    const { number } = await promote('agent');
    await inStep(0.3);
    const flow = traffic();
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    expect((await world.waitDeployment('ferry', number)).state).toBe('live');
    await flow.stop();
    expect(flow.seen).toMatchObject({ lost: 0, errors: 0 });
    await settled('agent');
  });

  it('a program of the old side that dies is replaced beside it, and one of the new side takes its release back', async () => {
    const { number } = await promote('dies');
    await inStep(0.3);
    await world.cli('cutover', 'ferry/production', '--stay');
    const running = async () =>
      (await world.environment('ferry', 'production')).instanceList.filter(
        (one) => one.state === 'ready' && one.wanted,
      );
    const kill = (id: string) =>
      process.kill(readState(join(world.folder, 'house/agent/live', id)).keeper as number, 'SIGKILL');
    const old = (await running()).find((one) => one.deployment !== number);
    kill(old?.id as string);
    await until('the old side has another one, and the table leads to it', async () => {
      const other = (await running()).some((one) => one.deployment === old?.deployment && one.id !== old?.id);
      const answers = await Promise.all(Array.from({ length: 20 }, ask));
      return other && answers.every(({ status }) => status === 200) && answers.some(({ text }) => text === 'agent');
    });
    expect((await cutover()).share).toBe(0.3);
    kill((await running()).find((one) => one.deployment === number)?.id as string);
    expect((await world.waitDeployment('ferry', number)).state).toBe('failed');
    await settled('agent');
  });
});
