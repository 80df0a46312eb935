/** What is chosen for a file before it is imported. */
export interface Chosen {
  targets: string[];
  list: string;
  source: string;
  wording: string;
  suppressed: string;
  check: boolean;
  dates: Record<string, string>;
  values: Record<string, Record<string, string>>;
  consent: Record<string, "given" | "withdrawn" | "pending" | "none">;
}
