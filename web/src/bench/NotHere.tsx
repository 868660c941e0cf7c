import { Link } from 'react-router'

export function NotHere() {
  return (
    <div style={{ padding: 40, display: 'grid', gap: 8 }}>
      <h1>There is nothing here.</h1>
      <p>
        The address leads to no job. <Link to="/">Back to the bench</Link>
      </p>
    </div>
  )
}
