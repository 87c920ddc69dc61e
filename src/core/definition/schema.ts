/** The JSON Schema (2020-12) of the definition language, for editors: made from the shapes. */
import { file, type Shape } from './shapes.js';

export function definitionSchema(): Record<string, unknown> {
  return {
    $schema: 'https://json-schema.org/draft/2020-12/schema',
    $id: '/schema/definition.json',
    title: 'tsunagi.yaml',
    ...schemaOf(file),
  };
}

function schemaOf(shape: Shape): Record<string, unknown> {
  switch (shape.kind) {
    case 'text':
      return {
        type: ['string', 'number', 'boolean'],
        ...(shape.pattern ? { pattern: shape.pattern } : {}),
        examples: [shape.example],
      };
    case 'choice':
      return {
        enum: shape.of.flatMap((one): (string | number | boolean)[] =>
          one === 'true'
            ? ['true', true]
            : one === 'false'
              ? ['false', false]
              : /^\d+$/.test(one)
                ? [one, Number(one)]
                : [one],
        ),
      };
    case 'list': {
      const list = {
        type: 'array',
        items: schemaOf(shape.of),
        ...(shape.least ? { minItems: shape.least } : {}),
        ...(shape.most ? { maxItems: shape.most } : {}),
      };
      return shape.orOne ? { anyOf: [schemaOf(shape.of), list] } : list;
    }
    case 'named':
      return {
        type: 'object',
        propertyNames: { pattern: shape.name.pattern },
        additionalProperties: schemaOf(shape.of),
        ...(shape.least ? { minProperties: shape.least } : {}),
      };
    case 'record': {
      const known = Object.entries(shape.keys).filter(([, key]) => !key.later);
      const required = known.filter(([, key]) => key.required).map(([key]) => key);
      const record = {
        type: 'object',
        properties: Object.fromEntries(
          known.map(([key, one]) => [key, { description: one.about, ...schemaOf(one.shape) }]),
        ),
        ...(required.length ? { required } : {}),
        additionalProperties: false,
      };
      return shape.orText ? { anyOf: [schemaOf(shape.orText), record] } : record;
    }
  }
}
