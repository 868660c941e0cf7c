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
  // npm run coverage; what runs in processes and threads of their own is not seen by it
  coverageProvider: 'v8',
  coverageDirectory: '.build/coverage',
  coverageReporters: ['text-summary', 'json-summary', 'html'],
  collectCoverageFrom: ['{core,contract,scanners,threads,cad,demo,cli,server,web}/src/**/*.{ts,tsx}', '!**/*.d.ts'],
}
