/** The keep's gate, with a lamp in it. */
export function Mark({ size = 24 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 32 32" aria-hidden>
      <path d="M4 29V6h5v4h4V6h6v4h4V6h5v23h-7v-7a5 5 0 0 0-10 0v7z" fill="currentColor" />
      <path d="M13.5 29v-6.5a2.5 2.5 0 0 1 5 0V29z" fill="#e69f3c" />
    </svg>
  );
}
