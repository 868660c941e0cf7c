import { SetupError } from './postgres.ts'

/** The host to listen on. Throws SetupError for one that others can reach, unless whoever starts the program says that they may: there are no accounts. */
export function listensTo(host: string): string {
  if (/^(127\.\d+\.\d+\.\d+|localhost|::1)$/.test(host) || process.env['OAK_TRUSTED_NETWORK'] === '1') return host
  throw new SetupError(
    `With HOST=${host} everybody on the network could change and delete jobs: there are no accounts.\nSet OAK_TRUSTED_NETWORK=1 as well if they may, and name this machine in OAK_HOSTS.`,
  )
}
