/**
 * An error a technician can act on: what happened, where, and what to do about it.
 * `code` is stable and meant for programs, the three sentences are meant for people.
 */
export class OakError extends Error {
  readonly code: string
  readonly where: string
  readonly remedy: string
  constructor(code: string, message: string, options: { where?: string; remedy?: string; cause?: unknown } = {}) {
    super(message, options.cause === undefined ? undefined : { cause: options.cause })
    this.name = 'OakError'
    this.code = code
    this.where = options.where ?? ''
    this.remedy = options.remedy ?? ''
  }
}

/** The task was cancelled on purpose; nothing it made is kept. */
export class Cancelled extends OakError {
  constructor() {
    super('cancelled', 'The task was cancelled.', { remedy: 'Nothing has changed. Start it again when you like.' })
    this.name = 'Cancelled'
  }
}

/** An error as plain words, for a thread or process that must send it. */
export interface SentError {
  /** of an OakError */
  code?: string
  message: string
  where?: string
  remedy?: string
  stack?: string
}

export function sendError(e: unknown): SentError {
  if (e instanceof OakError) return { code: e.code, message: e.message, where: e.where, remedy: e.remedy }
  return e instanceof Error ? { message: e.message, ...(e.stack ? { stack: e.stack } : {}) } : { message: String(e) }
}

/** What was sent, as the error that it was: programs find its code again. */
export function receiveError(s: SentError): Error {
  if (s.code === 'cancelled') return new Cancelled()
  if (s.code !== undefined) return new OakError(s.code, s.message, { where: s.where ?? '', remedy: s.remedy ?? '' })
  const e = new Error(s.message)
  if (s.stack) e.stack = s.stack
  return e
}

/** Same error with the file or item it happened in put in front of `where`. */
export function inFile(file: string, error: unknown): unknown {
  if (!(error instanceof OakError) || error instanceof Cancelled) return error
  if (error.where.startsWith(file)) return error
  const where = error.where ? `${file}, ${error.where}` : file
  return new OakError(error.code, error.message, { where, remedy: error.remedy, cause: error })
}
