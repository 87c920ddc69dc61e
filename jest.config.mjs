export default {
  testEnvironment: 'node',
  roots: ['<rootDir>/test'],
  testMatch: ['**/*.test.ts'],
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  transform: {
    '^.+\\.tsx?$': [
      '@swc/jest',
      { jsc: { target: 'es2023', parser: { syntax: 'typescript', tsx: true } }, module: { type: 'es6' } },
    ],
  },
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  testTimeout: 240_000,
  maxWorkers: 2,
  testSequencer: '<rootDir>/scripts/order.mjs',
  testRunner: '<rootDir>/scripts/in-time.mjs',
};
