/** The one place where secrets are taken out of texts. */

/** Values that are told apart when they are hidden, at most. */
const MOST_HIDDEN = 100_000;

/** Hides known secrets, and what looks like a credential, in any text that may be shown. */
export class Redactor {
  private readonly secrets = new Set<string>();
  /** what looked like credentials, numbered */
  private readonly hidden = new Map<string, number>();

  /** Remembers a secret, and the forms in which it travels. Texts under 4 characters are too common to hide. */
  add(secret: string): void {
    if (secret.length < 4) return;
    this.secrets.add(secret);
    this.secrets.add(encodeURIComponent(secret));
    this.secrets.add(JSON.stringify(secret).slice(1, -1));
  }

  /** An address that the API gave, without the parameters whose value is a secret: they are put in anew. */
  withoutSecrets(address: string): string {
    const at = address.indexOf("?");
    if (at < 0) return address;
    const pairs = address.slice(at + 1).split("&");
    const isPlain = (pair: string) =>
      ![...this.secrets].some((secret) => pair.slice(pair.indexOf("=") + 1) === secret);
    const plain = pairs.filter(isPlain);
    if (plain.length === pairs.length) return address;
    return address.slice(0, at) + (plain.length === 0 ? "" : `?${plain.join("&")}`);
  }

  /** What looks like a credential may be a page's token: those that differ stay apart when they are hidden. */
  private alike(value: string): string {
    if (value.startsWith("[secret")) return value;
    const known = this.hidden.get(value) ?? this.hidden.size + 1;
    if (this.hidden.size < MOST_HIDDEN) this.hidden.set(value, known);
    return `[secret-${known}]`;
  }

  /** The text with every secret replaced by `[secret]`. */
  hide(text: string): string {
    let shown = text;
    const longestFirst = [...this.secrets].sort((a, b) => b.length - a.length);
    for (const secret of longestFirst) shown = shown.replaceAll(secret, "[secret]");
    return shown
      .replace(/\b(Bearer|Basic)\s+[A-Za-z0-9._~+/=-]{8,}/gi, "$1 [secret]")
      .replace(
        /([?&](?:access_token|token|api_?key|key|client_secret|password|secret)=)([^&\s"'<>;,]+)/gi,
        (_all, name: string, value: string) => name + this.alike(value),
      );
  }
}
