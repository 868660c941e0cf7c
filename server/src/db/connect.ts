import pg from 'pg'
import { Sequelize } from 'sequelize'
import { migrate } from './migrations.ts'
import { defineModels } from './models.ts'
import { defineScannerModels } from './scannermodels.ts'

export interface Database {
  url: string
  sequelize: Sequelize
  /** for what goes past Sequelize: streams of bytes */
  pool: pg.Pool
  close(): Promise<void>
}

/** Connections past Sequelize. One that breaks fails what was asked on it; without a listener it would end the process. */
export function openPool(url: string, max: number): pg.Pool {
  // none free for so long: an error that says so is better than an answer that never comes
  const pool = new pg.Pool({ connectionString: url, max, connectionTimeoutMillis: 15_000 })
  pool.on('error', () => undefined)
  pool.on('connect', (c) => c.on('error', () => undefined))
  return pool
}

/** Opens the database, brings it up to date, and binds the models to it. */
export async function connect(url: string): Promise<Database> {
  const sequelize = new Sequelize(url, { logging: false, pool: { max: 8 } })
  await sequelize.authenticate()
  await migrate(sequelize)
  defineModels(sequelize)
  defineScannerModels(sequelize)
  const pool = openPool(url, 6)
  return {
    url,
    sequelize,
    pool,
    async close() {
      await pool.end()
      await sequelize.close()
    },
  }
}
