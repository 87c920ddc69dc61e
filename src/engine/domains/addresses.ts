/** Addresses: taken under a fence, proven and certified outside of any transaction, written back only by whoever still holds them. */
import { newId } from '../../records/ids.js';
import { sealedPlace } from '../../keys/places.js';
import {
  addressAct,
  addressDone,
  type AddressAct,
  type AddressFacts,
  addressIdle,
  type AddressStep,
  answered,
  renewIn,
} from '../../core/advance/addresses.js';
import type { Outcome } from '../../core/advance/resources.js';
import { CodedError, issue, registry, wording } from '../../core/errors/errors.js';
import {
  addCertificate,
  certificatesById,
  operatorCertificate,
  removeUnused,
} from '../../records/domains/certificates.js';
import {
  type AddressRow,
  answeredAddress,
  lockHeldAddress,
  settleAddress,
  takeAddress,
  wakeAddress,
} from '../../records/domains/addresses.js';
import { putRoute } from '../../records/callers/edges.js';
import { environmentById } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { projectById } from '../../records/projects/projects.js';
import type { Context, Db } from '../context.js';
import { whileHeld } from '../held.js';
import { type Lanes, openLanes } from '../lanes.js';
import { type Got, obtain, proofToken } from './certify.js';
import type { Placed } from './names.js';

/** Addresses that one service works on at a time. */
const lanes = 4;

export const addressLanes = (context: Context, free: () => void): Lanes =>
  openLanes({
    name: 'address',
    count: lanes,
    take: () => takeAddress(context.records, context.timing.lease),
    work: (row) => step(context, row),
    free,
    log: context.log,
  });

async function step(context: Context, row: AddressRow): Promise<void> {
  const { records } = context;
  const environment = await environmentById(records, row.environment_id);
  const placed = { row, environment, project: await projectById(records, environment.project_id) };
  const facts = await factsOf(context, placed);
  const act = addressAct(facts);
  if (!act) return void (await settleAddress(records, row, addressIdle(facts, row.host, row.issue), null));
  let outcome: Outcome;
  let got: Got | null = null;
  try {
    got = await whileHeld(context, 'addresses', row, async () => {
      if (act === 'certify') return obtain(context, placed);
      await context.names.resolver.prove(row.host, proofToken(context, placed.project, row.host));
      return null;
    });
    outcome = { done: true };
  } catch (error) {
    outcome = outcomeOf(error);
    context.log.warn({ address: row.host, act, error: String(error) }, 'an address was not had');
  }
  const mayTake = act !== 'prove' || !outcome.done || (await loserOf(context, placed));
  await records.transition(`address.${act}`, (db) =>
    settle(context, db, placed, { facts, act, outcome, got, mayTake }),
  );
}

interface Came {
  facts: AddressFacts;
  act: AddressAct;
  outcome: Outcome;
  got: Got | null;
  /** Nobody stands in its way; or who does, and may lose the name; or false: the other's proof stands. */
  mayTake: boolean | AddressRow;
}

async function settle(context: Context, db: Db, placed: Placed, came: Came): Promise<void> {
  const { row, environment, project } = placed;
  const { act, got, mayTake } = came;
  if (!(await lockHeldAddress(db, row))) return;
  let { outcome } = came;
  const other = act === 'prove' && outcome.done ? await answeredAddress(db, row.host) : null;
  if (other) {
    // Who has come in between, or keeps a proof, keeps the name.
    if (typeof mayTake === 'object' && mayTake.id === other.id) await lose(db, other);
    else outcome = { done: false, again: false, issue: await takenBy(db, other) };
  }
  const certificate = got === null ? null : 'id' in got ? got.id : await addCertificate(db, sealed(context, got));
  const facts = got ? { ...came.facts, renewInMs: renewOf(context, got) } : came.facts;
  const next = addressDone(facts, act, outcome);
  if (!(await settleAddress(db, row, next, certificate))) return;
  if (certificate) await removeUnused(db);
  if (row.kind === 'own' && answered(next.state) !== answered(row.state))
    await putRoute(db, row.host, environment.id, answered(next.state) ? { alias: environment.host } : null);
  if (next.state !== row.state || got) await tell(db, { row, environment, project }, next, got);
}

/** Whom a name is taken from when its proof is the other's no longer. */
async function loserOf(context: Context, { row, project }: Placed): Promise<boolean | AddressRow> {
  const other = await answeredAddress(context.records, row.host);
  if (!other) return true;
  const environment = await environmentById(context.records, other.environment_id);
  // Within one project the record is the same: somebody removes it there first.
  if (environment.project_id === project.id) return false;
  const owner = await projectById(context.records, environment.project_id);
  try {
    await context.names.resolver.prove(row.host, proofToken(context, owner, row.host));
    return false;
  } catch (error) {
    return error instanceof CodedError && error.issue.code === 'proof_missing' ? other : false;
  }
}

async function lose(db: Db, other: AddressRow): Promise<void> {
  const environment = await environmentById(db, other.environment_id);
  const project = await projectById(db, environment.project_id);
  await wakeAddress(db, other.id, true);
  await putRoute(db, other.host, environment.id, null);
  await recordEvents(db, {
    type: 'address.lost',
    project: project.id,
    subject: `${project.name}/${environment.name}`,
    actor: 'engine',
    data: { address: other.host },
  });
}

async function takenBy(db: Db, other: AddressRow) {
  const environment = await environmentById(db, other.environment_id);
  const project = await projectById(db, environment.project_id);
  return issue('address_taken', { name: other.host, environment: `${project.name}/${environment.name}` });
}

async function factsOf(context: Context, { row }: Placed): Promise<AddressFacts> {
  const now = context.now();
  const operator = await operatorCertificate(context.records, row.host);
  const [certificate] = row.certificate_id ? await certificatesById(context.records, [row.certificate_id]) : [];
  const { kind } = context.names.authority;
  return {
    state: row.state,
    kind: row.kind,
    tries: row.tries,
    sinceMs: now - row.state_since.getTime(),
    // Names that the service gives are certified by its own authority, or by what the operator has for all of them.
    authority: operator !== null || kind === 'local' || (kind === 'acme' && row.kind === 'own'),
    renewInMs: !certificate
      ? null
      : operator
        ? operator.id === certificate.id
          ? operator.not_after.getTime() - now
          : 0
        : renewIn(certificate.not_before.getTime(), certificate.not_after.getTime(), now),
    over: !certificate || certificate.not_after.getTime() <= now,
  };
}

const renewOf = (context: Context, got: Got): number =>
  'id' in got
    ? Math.max(60_000, got.until.getTime() - context.now())
    : Math.max(60_000, renewIn(got.from.getTime(), got.until.getTime(), context.now()));

const sealed = (context: Context, { key, ...got }: Exclude<Got, { id: string }>) => {
  const id = newId();
  return { ...got, id, sealed: context.keys.encrypt(key, sealedPlace('certificates', id)) };
};

function outcomeOf(error: unknown): Outcome {
  const known =
    error instanceof CodedError ? error.issue : issue('authority_away', { detail: String(error).slice(0, 200) });
  return { done: false, again: registry[known.code].retry, issue: known };
}

async function tell(db: Db, { row, environment, project }: Placed, next: AddressStep, got: Got | null): Promise<void> {
  if (next.state === 'wanted') return;
  // On the way from a certificate that ran out there is something wrong.
  const type = next.state === 'proven' && next.issue ? 'failed' : next.state;
  await recordEvents(db, {
    type: `address.${type}`,
    project: project.id,
    subject: `${project.name}/${environment.name}`,
    actor: 'engine',
    data: {
      address: row.host,
      why: next.issue && wording(next.issue).says,
      ...(got ? { issuer: got.issuer, until: got.until.toISOString() } : {}),
    },
  });
}
