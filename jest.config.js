const swc = (tsx) => [
  '<rootDir>/tools/jest-transform.mjs',
  {
    jsc: { target: 'es2023', parser: { syntax: 'typescript', tsx }, transform: { react: { runtime: 'automatic' } } },
    module: { type: 'es6' },
    sourceMaps: 'inline',
  },
]
export default {
  testEnvironment: 'node',
  roots: ['core', 'contract', 'scanners', 'threads', 'cad', 'demo', 'cli', 'server', 'web'].map((r) => `<rootDir>/${r}`),
  testMatch: ['**/*.test.{ts,tsx}'],
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  transform: { '\\.ts$': swc(false), '\\.tsx$': swc(true) },
  testTimeout: 120_000,
}
