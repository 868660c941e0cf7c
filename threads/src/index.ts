export * from './pool.ts'
