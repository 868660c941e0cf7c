import { readFileSync, writeFileSync } from 'node:fs'
import { setPriority } from 'node:os'

const BACK = 10
/** of its session: the browser on the same machine is another one, and must not have ten times as much while somebody waits for a step */
const SESSION_BACK = 5

/**
 * Lets others go first: what computes for minutes takes what they leave, so that the web server answers and the screen moves while it does. Of this
 * thread and of those that it begins from now on (so on Linux; elsewhere of the whole process).
 *
 * Linux shares a processor evenly between sessions first (autogroup), and looks at priorities only within each: whoever computes for minutes in the session
 * of the web server uses up that one's share, and the web server waits behind the database, which is a session of its own. So the processes of ./start are
 * sessions of their own (`OWN_SESSION`), and one in the back says so of its session too.
 */
export function takeBackSeat(): void {
  try {
    setPriority(BACK)
    // pid, name, state, parent, group, session
    const session = /\) \S \S+ \S+ (\d+)/.exec(readFileSync('/proc/self/stat', 'utf8'))?.[1]
    if (session === String(process.pid)) writeFileSync('/proc/self/autogroup', String(SESSION_BACK))
  } catch {
    // who may not do so, or has no such thing, computes as before
  }
}

/** For fork(): the process does not hear Ctrl-C, and must be told to end; that whoever began it is gone it sees by its channel. */
export const OWN_SESSION = { detached: true }
