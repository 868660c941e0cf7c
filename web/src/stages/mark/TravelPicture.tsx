/** A part turned over: its markers go round with it, or stay where they were on the table. */
export function TravelPicture({ stuck }: { stuck: boolean }) {
  const dots = (list: [number, number][]) => list.map(([x, y]) => <circle key={`${x} ${y}`} cx={x} cy={y} r="2.400" className="dot" />)
  return (
    <svg width="150" height="44" aria-hidden="true" className="travel">
      <line x1="4" x2="62" y1="38" y2="38" />
      <path d="M16 38V20H34V28H50V38Z" />
      {dots(
        stuck
          ? [
              [21, 17],
              [30, 17],
              [42, 25],
            ]
          : [
              [8, 35.6],
              [56, 35.6],
              [61, 35.6],
            ],
      )}
      <path d="M70 26h12l-4 -4M82 26l-4 4" fill="none" />
      <line x1="88" x2="146" y1="38" y2="38" />
      <path d="M100 38V28H116V20H134V38Z" transform="rotate(180 117 29)" />
      {dots(
        stuck
          ? [
              [113, 41],
              [104, 41],
              [126, 33],
            ]
          : [
              [92, 35.6],
              [140, 35.6],
              [145, 35.6],
            ],
      )}
    </svg>
  )
}
