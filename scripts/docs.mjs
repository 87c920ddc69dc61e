#!/usr/bin/env node
/** Writes docs/definition.md from the shapes of the language. */
import { writeFileSync } from 'node:fs';
import { file } from '../dist/src/core/definition/shapes.js';

const kindOf = (shape) => {
  switch (shape.kind) {
    case 'text':
      return `${shape.what}, such as \`${shape.example}\``;
    case 'choice':
      return shape.of.map((one) => `\`${one}\``).join(' or ');
    case 'list':
      return shape.orOne ? `${kindOf(shape.of)}, or a list` : `list of ${kindOf(shape.of).replace(/^a /, '')}`;
    case 'named':
      return `map from ${shape.name.what}`;
    default:
      return shape.orText ? 'text, or a map' : 'map';
  }
};
const lines = [];
const later = [];
const section = (title, shape, path) => {
  const record = shape.kind === 'named' ? shape.of : shape;
  if (record.kind !== 'record') return;
  lines.push(`## ${title}`, '', '| key | value | |', '|---|---|---|');
  const below = [];
  for (const [key, one] of Object.entries(record.keys)) {
    if (one.later) {
      later.push(`\`${path}${key}\``);
      continue;
    }
    lines.push(`| \`${key}\`${one.required ? ' (required)' : ''} | ${kindOf(one.shape)} | ${one.about} |`);
    below.push([key, one.shape]);
  }
  lines.push('');
  for (const [key, one] of below) {
    const name = one.kind === 'named' ? `${path}${key}.NAME` : `${path}${key}`;
    const inner = one.kind === 'named' ? one.of : one;
    if (inner.kind === 'record' && Object.values(inner.keys).some((key) => !key.later))
      section(`\`${name}\``, one, `${name}.`);
  }
};
lines.push(
  '# The definition file',
  '',
  '`tsunagi.yaml` stands at the root of the repository, or of the project’s folder in a larger one. It says how a commit becomes a release and which environments take releases. Its JSON Schema is served at `/schema/definition.json`; `tsunagi check` checks a file offline. This page is made from the same table (`npm run docs`).',
  '',
  '- `tasks` and `release` come from the commit at hand; `environments` from the last valid definition on the main branch.',
  '- Scalars are taken by their source text. Tags, anchors and aliases are errors.',
  '- A path is relative to the project’s folder. A name means that file or that whole folder, dotfiles included; `*` stays within one folder, `**` crosses; `except PATTERN` takes away.',
  '- Each command is handed to `bash -euo pipefail -c` unchanged. A task gets CI=true, PATH, HOME, TMPDIR and its variables, and sees the files it reads and the outputs of its needs, at `/project`. Nothing else.',
  '- Parts, prepare and verify also get TSUNAGI_PROJECT, TSUNAGI_ENVIRONMENT, TSUNAGI_ENVIRONMENT_URL, TSUNAGI_RELEASE, TSUNAGI_COMMIT; servers get PORT.',
  '',
);
section('The file', file, '');
lines.push(
  '## Known and not yet supported',
  '',
  'These keys are part of the language and are refused by this version, never ignored:',
  '',
  `${later.join(', ')}.`,
  '',
);
writeFileSync(new URL('../docs/definition.md', import.meta.url), lines.join('\n'));
