import { Button } from 'antd'
import { Component, type ReactNode } from 'react'
import { isRouteErrorResponse, Link, useRouteError } from 'react-router'
import { t } from '../words/t.ts'

/** What is told of an error of the page itself. */
function wordsFor(error: unknown): { what: string; remedy: string; detail: string } {
  const detail = isRouteErrorResponse(error) ? `${error.status} ${error.statusText}` : error instanceof Error ? error.message : String(error)
  // the program was started anew with other files than this page knows
  if (/dynamically imported module|module script failed|Failed to fetch/i.test(detail))
    return {
      what: t('A part of this page could not be loaded.'),
      remedy: t('The program may have been started anew, or is away. Load the page again.'),
      detail,
    }
  return { what: t('This part of the page broke.'), remedy: t('Nothing of the job is lost: all of it is with the server. Load the page again.'), detail }
}

function Told({ error, children }: { error: unknown; children?: ReactNode }) {
  const { what, remedy, detail } = wordsFor(error)
  return (
    <div className="problem broken" role="alert">
      <b>{what}</b>
      <span>{remedy}</span>
      <span className="soft">{detail}</span>
      <div className="row">
        <Button size="small" onClick={() => window.location.reload()}>
          {t('Load again')}
        </Button>
        {children}
      </div>
    </div>
  )
}

/** Stands for a page that could not be shown. */
export function BrokenPage() {
  return (
    <div className="brokenpage">
      <Told error={useRouteError()}>
        <Link to="/">{t('Back to the bench')}</Link>
      </Told>
    </div>
  )
}

/** Keeps an error within what it holds: the rest of the page goes on. With another `about` it tries again. */
export class Boundary extends Component<{ about: string; children: ReactNode }, { error: unknown; about: string }> {
  override state: { error: unknown; about: string } = { error: null, about: this.props.about }

  static getDerivedStateFromError(error: unknown) {
    return { error }
  }

  static getDerivedStateFromProps(props: { about: string }, state: { about: string }) {
    return props.about === state.about ? null : { error: null, about: props.about }
  }

  override render() {
    return this.state.error === null ? this.props.children : <Told error={this.state.error} />
  }
}
