import pg from 'pg'
import { Sequelize } from 'sequelize'
import { migrate } from './migrations.ts'
import { defineModels } from './models.ts'
import { defineScannerModels } from './scannermodels.ts'

export interface Database {
  url: string
  sequelize: Sequelize
  /** for what goes past Sequelize */
  pool: pg.Pool
  /** for the bytes of files, of which many may be on their way: nothing else waits behind them */
  streams: pg.Pool
  close(): Promise<void>
}

/** ms until whoever finds all connections taken is told so */
const PATIENCE = 15_000

/** Connections past Sequelize. One that breaks fails what was asked on it; without a listener it would end the process. */
export function openPool(url: string, max: number, patience = PATIENCE): pg.Pool {
  // none free for so long: an error that says so is better than an answer that never comes
  const pool = new pg.Pool({ connectionString: url, max, connectionTimeoutMillis: patience })
  pool.on('error', () => undefined)
  pool.on('connect', (c) => c.on('error', () => undefined))
  return pool
}

/** Opens the database, brings it up to date, and binds the models to it. */
export async function connect(url: string): Promise<Database> {
  const sequelize = new Sequelize(url, { logging: false, pool: { max: 8, acquire: PATIENCE } })
  await sequelize.authenticate()
  await migrate(sequelize)
  defineModels(sequelize)
  defineScannerModels(sequelize)
  const pool = openPool(url, 6)
  const streams = openPool(url, 4, 180_000)
  return {
    url,
    sequelize,
    pool,
    streams,
    async close() {
      await pool.end()
      await streams.end()
      await sequelize.close()
    },
  }
}
