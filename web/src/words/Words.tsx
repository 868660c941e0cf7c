import type { ReactElement } from 'react'
import { Trans } from 'react-i18next'

/** A sentence of the catalogue with elements in it: <name>…</name> stands for the part of that name. */
export function Words({ of, values, parts }: { of: string; values?: Record<string, unknown>; parts: Record<string, ReactElement> }) {
  // values are data, which may hold signs of markup
  return <Trans i18nKey={of} values={values} components={parts} tOptions={{ interpolation: { escapeValue: true } }} shouldUnescape />
}
