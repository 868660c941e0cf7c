import type { NextFunction, Request, Response } from 'express'
import { refuse as refused } from './problem.ts'

/**
 * Other web pages in the same browser must not reach a server on loopback by a name of their own (DNS rebinding), nor send it forms, nor call its
 * interface from theirs. A program that is no browser sends neither Origin nor Sec-Fetch-Site, and is let in by its host alone.
 */
export function sameHostOnly(req: Request, res: Response, next: NextFunction): void {
  const host = (req.headers.host ?? '').toLowerCase()
  const allowed = ['127.0.0.1', 'localhost', '[::1]', ...(process.env['OAK_HOSTS']?.toLowerCase().split(',') ?? [])]
  const { origin } = req.headers
  const site = req.headers['sec-fetch-site']
  // a link on another page may lead here, to a page; never to the interface
  const linked = req.method === 'GET' && req.headers['sec-fetch-mode'] === 'navigate' && !/^\/api(\/|$)/i.test(req.path)
  if (!allowed.includes(host.replace(/:\d+$/, ''))) return refuse(res, host, 'Open it as http://127.0.0.1, or name the host in OAK_HOSTS.')
  // scheme, name and port; “null” is the origin of pages that hide theirs
  if (origin !== undefined && origin.toLowerCase() !== `${req.protocol}://${host}`) return refuse(res, origin, 'Use the page that this server shows.')
  if ((site === 'cross-site' || site === 'same-site') && !linked) return refuse(res, host, 'Use the page that this server shows.')
  next()
}

const refuse = (res: Response, where: string, remedy: string): void =>
  refused(res, { code: 'wrong-host', detail: 'This server answers only under its own name, to its own page.', where, remedy }, 403)
