// Marks: a drawn sign beside a word, so that colour never speaks alone.
const drawings = {
  holds: <path d="M2 7.2 5 10.2 11 2.8" />,
  waits: (
    <>
      <circle cx="6.5" cy="6.5" r="5" />
      <path d="M6.5 3.6v3.1l2 1.5" />
    </>
  ),
  refused: <path d="M2.5 2.5l8 8M10.5 2.5l-8 8" />,
  drift: <path d="M1.5 4.6h10M1.5 8.4h10M9.4 1.4 3.6 11.6" />,
  same: <path d="M2 4.6h9M2 8.4h9" />,
  moving: <path d="M1.5 6.5h9M7 3l3.6 3.5L7 10" />,
  promote: (
    <>
      <path d="M3 12V1.2" />
      <path d="M3 1.6 11 4.2 3 6.8z" fill="currentColor" />
    </>
  ),
  back: <path d="M5 2.5 1.6 6 5 9.5M1.8 6h6.4a3 3 0 0 1 0 6" />,
  pointed: <circle cx="6.5" cy="6.5" r="2.4" fill="currentColor" />,
  find: (
    <>
      <circle cx="5.5" cy="5.5" r="3.8" />
      <path d="M8.4 8.4 11.6 11.6" />
    </>
  ),
  down: <path d="M3 5l3.5 3.5L10 5" />,
};

export type MarkName = keyof typeof drawings;

export const Mark = ({ name }: { name: MarkName }) => (
  <svg className="mk" viewBox="0 0 13 13" aria-hidden="true">
    {drawings[name]}
  </svg>
);

export const Summit = () => (
  <svg width="36" height="19" viewBox="0 0 36 19" aria-hidden="true">
    <path d="M0 19 6.5 9.5 9.5 12.5 17.5 0 25 11 28 8 36 19Z" fill="currentColor" />
    <path d="M17.5 0 14.9 6.6 18.6 9.6 15 19 9 19 13.4 11.4 12 9.2Z" fill="var(--paper)" opacity=".36" />
  </svg>
);
