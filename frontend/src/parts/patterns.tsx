/** The hatch and the dots of the two bands off the scale, for drawings. */
export function Patterns() {
  return (
    <defs>
      <pattern id="hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="5" height="5" fill="var(--color-masked-pale)" />
        <rect width="2.2" height="5" fill="var(--color-unproven)" />
      </pattern>
      <pattern id="dots" width="4.4" height="4.4" patternUnits="userSpaceOnUse">
        <rect width="4.4" height="4.4" fill="var(--color-masked-pale)" />
        <circle cx="2.2" cy="2.2" r="1.35" fill="var(--color-masked)" />
      </pattern>
    </defs>
  );
}
