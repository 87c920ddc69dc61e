/**
 * What is stated about a release when it leaves the house: how it was made (SLSA Provenance v1), and what is known of it (a predicate of
 * our own). Both are in-toto statements about its digest and the digests of its parts.
 */
import type { ReleasePlan } from '../definition/model.js';
import type { Statement } from './envelope.js';
import type { Evidence } from './evidence.js';
import type { PartImage } from './image.js';

export const predicateTypes = {
  provenance: 'https://slsa.dev/provenance/v1',
  evidence: 'tag:tsunagi.dev,2026:evidence/1',
} as const;

/** Media types of envelopes, by what they state (in-toto Attestation Framework, Envelope v1). */
export const statementKinds = {
  provenance: 'application/vnd.in-toto.provenance+dsse',
  evidence: 'application/vnd.in-toto.evidence+dsse',
} as const;
export type StatementKind = keyof typeof statementKinds;

const buildType = 'tag:tsunagi.dev,2026:pipeline/1';

export interface ReleaseFacts {
  project: string;
  number: number;
  digest: string;
  parts: Pick<PartImage, 'name' | 'digest'>[];
  commit: { id: string; title: string; author: string; at: string };
  branch: string | null;
  pullRequest: number | null;
  /** Trust line: `own`, or that of a pull request of a stranger. */
  line: string;
}

export interface MadeBy {
  /** Address of the service. */
  service: string;
  version: string;
  /** Where its commits come from. */
  source: string;
  run: number;
  startedAt: string | null;
  endedAt: string | null;
  tools: Record<string, string>;
}

/** What an importing house needs to know besides the bytes. */
export interface EvidencePredicate extends Omit<ReleaseFacts, 'digest' | 'parts'> {
  plan: ReleasePlan;
  migrations: { path: string; id: string }[];
  evidence: (Omit<Evidence, 'at'> & { at: string; evidence: string })[];
}

const hex = (digest: string): { sha256: string } => ({ sha256: digest.replace(/^sha256:/, '') });

const subjectsOf = ({ project, number, digest, parts }: ReleaseFacts): Statement['subject'] => [
  { name: `${project} r${number}`, digest: hex(digest) },
  ...parts.map((part) => ({ name: `${project} r${number} ${part.name}`, digest: hex(part.digest) })),
];

export function provenance(facts: ReleaseFacts, made: MadeBy): Statement {
  const { project, commit, branch, pullRequest } = facts;
  return {
    _type: 'https://in-toto.io/Statement/v1',
    subject: subjectsOf(facts),
    predicateType: predicateTypes.provenance,
    predicate: {
      buildDefinition: {
        buildType,
        externalParameters: {
          project,
          commit: commit.id,
          ...(branch === null ? {} : { branch }),
          ...(pullRequest === null ? {} : { pullRequest }),
        },
        internalParameters: { tools: made.tools },
        resolvedDependencies: [{ uri: made.source, digest: { gitCommit: commit.id } }],
      },
      runDetails: {
        builder: { id: made.service, version: { tsunagi: made.version } },
        metadata: {
          invocationId: `${made.service}/${project}/runs/${made.run}`,
          ...(made.startedAt === null ? {} : { startedOn: made.startedAt }),
          ...(made.endedAt === null ? {} : { finishedOn: made.endedAt }),
        },
      },
    },
  };
}

export const evidenceStatement = (
  facts: ReleaseFacts,
  known: Pick<EvidencePredicate, 'plan' | 'migrations' | 'evidence'>,
): Statement => {
  const { digest: _digest, parts: _parts, ...said } = facts;
  return {
    _type: 'https://in-toto.io/Statement/v1',
    subject: subjectsOf(facts),
    predicateType: predicateTypes.evidence,
    predicate: { ...said, ...known } satisfies EvidencePredicate as unknown as Record<string, unknown>,
  };
};
