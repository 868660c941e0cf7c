export * from './container.ts'
export * from './job.ts'
export * from './stages.ts'
export * from './colours.ts'
