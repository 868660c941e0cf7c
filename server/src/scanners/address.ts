import { OakError } from '@oak-gauge/core/base/errors.ts'

/**
 * The address of a scanner or a bridge to one, when it is of this machine or of a host that OAK_SCANNER_HOSTS names: else whoever may open the page could have the
 * server knock at any door of its network. Throws 'wrong-address'.
 */
export function scannerAddress(text: string): string {
  const url = parsed(text)
  if (!url || !/^wss?:$/.test(url.protocol))
    throw new OakError('wrong-address', 'That is no address of a scanner.', { where: text, remedy: 'It reads like ws://127.0.0.1:4190.' })
  if (url.username || url.password)
    throw new OakError('wrong-address', 'An address with a name or password in it would be kept for everybody to read.', {
      where: url.host,
      remedy: 'Leave them out; a bridge beside the scanner can know them.',
    })
  const allowed = ['127.0.0.1', 'localhost', '[::1]', ...(process.env['OAK_SCANNER_HOSTS']?.toLowerCase().split(',') ?? [])].map((h) => h.trim())
  if (!allowed.includes(url.hostname.toLowerCase()))
    throw new OakError('wrong-address', `Scanners at ${url.hostname} are not asked: only those of this machine are.`, {
      where: url.host,
      remedy: `Start with OAK_SCANNER_HOSTS=${url.hostname} if it may be asked.`,
    })
  return text
}

function parsed(text: string): URL | null {
  try {
    return new URL(text)
  } catch {
    return null
  }
}
