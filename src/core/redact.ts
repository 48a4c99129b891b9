/** The one place where secrets are taken out of texts. */

/** Hides known secrets, and what looks like a credential, in any text that may be shown. */
export class Redactor {
  private readonly secrets = new Set<string>();

  /** Remembers a secret, and the forms in which it travels. Texts under 4 characters are too common to hide. */
  add(secret: string): void {
    if (secret.length < 4) return;
    this.secrets.add(secret);
    this.secrets.add(encodeURIComponent(secret));
    this.secrets.add(JSON.stringify(secret).slice(1, -1));
  }

  /** The text with every secret replaced by `[secret]`. */
  hide(text: string): string {
    let shown = text;
    const longestFirst = [...this.secrets].sort((a, b) => b.length - a.length);
    for (const secret of longestFirst) shown = shown.replaceAll(secret, "[secret]");
    return shown
      .replace(/\b(Bearer|Basic)\s+[A-Za-z0-9._~+/=-]{8,}/gi, "$1 [secret]")
      .replace(
        /([?&](?:access_token|token|api_?key|key|client_secret|password|secret)=)[^&\s"]+/gi,
        "$1[secret]",
      );
  }
}
