declare module 'occt-import-js' {
  const init: (options: { print(line: string): void; printErr(line: string): void }) => Promise<unknown>
  export default init
}
