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

/** Same error with the file or item it happened in put in front of `where`. */
export function inFile(file: string, error: unknown): unknown {
  if (!(error instanceof OakError) || error instanceof Cancelled) return error
  if (error.where.startsWith(file)) return error
  const where = error.where ? `${file}, ${error.where}` : file
  return new OakError(error.code, error.message, { where, remedy: error.remedy, cause: error })
}
