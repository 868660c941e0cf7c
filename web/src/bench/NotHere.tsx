import { Link } from 'react-router'

export function NotHere() {
  return (
    <div className="page-message">
      <h1>There is nothing here.</h1>
      <p>
        The address leads to no job. <Link to="/">Back to the bench</Link>
      </p>
    </div>
  )
}
