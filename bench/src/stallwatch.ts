import { appendFileSync, readFileSync } from 'node:fs'
import { isMainThread } from 'node:worker_threads'

/** One time for which an event loop stood, ms. */
export interface Stall {
  /** end of it */
  at: number
  late: number
  /** for which its thread ran, and for which it waited for a core */
  ran: number
  waited: number
  /** that the machine below gave to somebody else, of all cores together (Linux: "steal") */
  taken: number
}

/** ms from which on it is written down, and between two looks */
const LEAST = 40
const LOOK = 10

/**
 * Loaded into the web server by the benchmark (`--import`, OAK_STALLS: file to write to): when its event loop stood, and whether it ran then, waited for a
 * core, or was on a machine that did not run. Linux only; elsewhere nothing is written.
 */
const file = process.env['OAK_STALLS']
if (file && isMainThread && process.argv[1]?.endsWith('http.js')) {
  const read = () => {
    const [ran, waited] = readFileSync(`/proc/self/task/${process.pid}/schedstat`, 'utf8').split(' ').map(Number)
    const taken = Number(readFileSync('/proc/stat', 'utf8').split('\n', 1)[0].split(/\s+/)[8])
    return { time: performance.now(), ran: ran / 1e6, waited: waited / 1e6, taken: 10 * taken }
  }
  try {
    let before = read()
    setInterval(() => {
      const now = read()
      const late = now.time - before.time - LOOK
      if (late > LEAST) {
        const stall: Stall = { at: Date.now(), late, ran: now.ran - before.ran, waited: now.waited - before.waited, taken: now.taken - before.taken }
        appendFileSync(file, `${JSON.stringify(stall)}\n`)
      }
      before = now
    }, LOOK).unref()
  } catch {
    // not Linux
  }
}
