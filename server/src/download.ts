import { create } from 'content-disposition'
import type { Response } from 'express'

/**
 * Names a file that leaves, in the header that browsers read (RFC 6266). Names come from people, files and devices, in any script: whatever could be
 * a path or a control character is taken out of them.
 */
export function named(res: Response, name: string, ending: string, type: 'attachment' | 'inline' = 'attachment'): void {
  res.setHeader('Content-Disposition', create(`${safeName(name)}.${ending}`, { type }))
}

const safeName = (name: string) =>
  name
    .normalize('NFC')
    .replace(/[\p{C}/\\:*?"<>|]+/gu, ' ')
    .replace(/\s+/g, ' ')
    .replace(/^[\s.]+|[\s.]+$/g, '')
    .slice(0, 120) || 'file'
