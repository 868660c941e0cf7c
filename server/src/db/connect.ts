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

/** Opens the database, brings it up to date, and binds the models to it. */
export async function connect(url: string): Promise<Database> {
  const sequelize = new Sequelize(url, { logging: false, pool: { max: 8 } })
  await sequelize.authenticate()
  await migrate(sequelize)
  defineModels(sequelize)
  defineScannerModels(sequelize)
  const pool = new pg.Pool({ connectionString: url, max: 6 })
  pool.on('error', () => undefined)
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
