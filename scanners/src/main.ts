import { startClock } from './clock.ts'
import { DEVICES } from './devices.ts'
import { serve } from './serve.ts'
import { StandIn, type Lasting } from './standin.ts'

/**
 * One stand-in scanner as a process: standin.js alder [port]. Started by the server it tells its port and what must last over
 * the parent's channel; started by hand it prints its address.
 *   OAK_STAND_IN   JSON: drops, made, calibration     OAK_CLOCK   how much faster than the world its clock runs (default 1)
 *   OAK_WARM       yes: begins warm
 */
const key = process.argv[2] ?? ''
const device = DEVICES[key]
if (!device) {
  process.stderr.write(`Which stand-in? One of ${Object.keys(DEVICES).join(', ')}.\n`)
  process.exit(2)
}
const given = JSON.parse(process.env['OAK_STAND_IN'] ?? '{}') as Partial<Lasting>
const lasting: Lasting = { drops: 0, made: Date.now() - 200 * 86_400_000, calibration: null, ...given }
const factor = Number(process.env['OAK_CLOCK'] ?? 1)
const standIn = new StandIn(device, lasting, startClock(factor > 0 ? factor : 1, process.env['OAK_WARM'] === 'yes' ? 36_000_000 : 0))
process.on('disconnect', () => process.exit(0))
if (process.send && !process.connected) process.exit(0)
// whoever started it may have ended a moment ago
const tell = (m: object) => process.connected && process.send?.(m, () => undefined)
const served = await serve(standIn, Number(process.argv[3] ?? 0), () => tell({ lasting: standIn.lasting }))
tell({ port: served.port })
if (!process.send) process.stdout.write(`${device.name} listens at ws://127.0.0.1:${served.port}\n`)
process.on('SIGTERM', () => process.exit(0))
