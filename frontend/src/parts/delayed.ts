import { useEffect, useState } from "react";

/** A value as it was when it last stood still for some milliseconds. */
export function useDelayed<T>(value: T, ms: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return settled;
}
