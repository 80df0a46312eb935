/** A block of a message, as it is kept. */

export type Align = "left" | "center" | "right";
export type Block = {
  kind: "text" | "image" | "button" | "links" | "columns" | "rule" | "space" | "footer";
  html?: string;
  src?: string;
  alt?: string;
  href?: string;
  width?: number;
  words?: string;
  align?: Align;
  height?: number;
  links?: { words: string; href: string }[];
  left?: Block[];
  right?: Block[];
  rule?: string;
};
