import pino from 'pino'

/** Structured log on standard error, so that standard output stays for people. Quiet in tests. */
export const log = pino({ level: process.env['OAK_LOG'] ?? 'info', base: { pid: process.pid } }, pino.destination({ dest: 2, sync: false }))

/** A promise that failed while nobody waited for it (a notice to a database that is away) is told, and does not end the process. */
export function tellUnheard(): void {
  process.on('unhandledRejection', (err) => log.error({ err }, 'failed unheard'))
}
