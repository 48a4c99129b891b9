export function typesOf(
  json: object,
  name: string,
  compile: (schema: object, name: string, options: object) => Promise<string>,
): Promise<string>;
export function formatted(text: string): string;
