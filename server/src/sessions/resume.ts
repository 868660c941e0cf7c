import { CaptureRun } from '../capture/capturerun.ts'
import type { Database } from '../db/connect.ts'
import { ScannerRow } from '../db/scannermodels.ts'
import type { Queue } from '../queue.ts'
import { log } from '../log.ts'
import { MappingRun } from '../markers/mappingrun.ts'
import { toProblem } from '../problem.ts'
import { CalibrationRun } from '../scanners/calibrationrun.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { VerificationRun } from '../scanners/verificationrun.ts'
import { takeOver } from './session.ts'

/** Leads on what an ended process left open. Before the scanners are connected, so that none finds its session missing. */
export async function resumeSessions(db: Database, queue: Queue, keeper: ScannerKeeper): Promise<void> {
  for (const { record, options, progress } of await takeOver()) {
    try {
      const scanner = await ScannerRow.findByPk(record.scannerId)
      if (!scanner) continue
      const connection = keeper.of(scanner.id)
      // what was stored is what the same kind of session stored
      const [o, p] = [options as never, progress as never]
      connection.run =
        record.kind === 'calibration'
          ? await CalibrationRun.resume(keeper, scanner, record, o, p)
          : record.kind === 'verification'
            ? await VerificationRun.resume(keeper, scanner, record, o, p)
            : record.kind === 'capture'
              ? await CaptureRun.resume(keeper, scanner, record, db, queue, o, p)
              : await MappingRun.resume(keeper, scanner, record, db, queue, o, p)
      log.info({ scanner: scanner.name, session: record.id, kind: record.kind }, 'taken up again')
    } catch (e) {
      // one that cannot go on must not keep the others, nor its scanner, from going on
      log.error({ err: e, session: record.id }, 'cannot be taken up again')
      await record.update({ state: 'failed', problem: toProblem(e), endedAt: new Date() })
    }
  }
}
