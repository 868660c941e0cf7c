import pino from 'pino'

/** Structured log on standard error, so that standard output stays for people. Quiet in tests. */
export const log = pino({ level: process.env['OAK_LOG'] ?? 'info', base: { pid: process.pid } }, pino.destination({ dest: 2, sync: false }))
