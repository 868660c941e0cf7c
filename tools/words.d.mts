export function sentences(files?: string[]): { found: Map<string, boolean>; wrong: string[] }
export function keysOf(found: Map<string, boolean>): string[]
