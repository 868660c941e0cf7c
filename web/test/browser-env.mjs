import { TestEnvironment } from 'jest-environment-jsdom'

/** jsdom with what it lacks of a browser and Node has; and with what nobody can see being still. */
export default class BrowserEnvironment extends TestEnvironment {
  constructor(...args) {
    super(...args)
    class PageRequest extends Request {
      constructor(url, init) {
        super(typeof url === 'string' ? new URL(url, 'http://localhost/') : url, init)
      }
    }
    Object.assign(this.global, { Request: PageRequest, Response, Headers, fetch, AbortController, AbortSignal, structuredClone, TextEncoder, TextDecoder })
    class ResizeObserver {
      observe() {}
      unobserve() {}
      disconnect() {}
    }
    this.global.ResizeObserver = ResizeObserver
    // Node's own would keep the process open
    class MessageChannel {
      port1 = { onmessage: null, close() {} }
      port2 = { postMessage: (data) => setTimeout(() => this.port1.onmessage?.({ data })), close() {} }
    }
    this.global.MessageChannel = MessageChannel
    // jsdom refuses to style what no element is, and prints a page about it
    const { getComputedStyle } = this.global
    this.global.getComputedStyle = (element) => getComputedStyle(element)
    this.global.matchMedia = () => ({ matches: false, addListener() {}, removeListener() {}, addEventListener() {}, removeEventListener() {} })
  }
}
