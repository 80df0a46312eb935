/** A line of text with its label above. */
export function TextField({
  label,
  value,
  set,
  placeholder,
}: {
  label: string;
  value: string;
  set: (text: string) => void;
  placeholder?: string;
}) {
  return (
    <label className="block">
      <span className="label">{label}</span>
      <input className="field" value={value} placeholder={placeholder} onChange={(e) => set(e.target.value)} />
    </label>
  );
}
