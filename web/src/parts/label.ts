/**
 * fromLabel gives the serial in a barcode of a drive's label; empty if there is none. Labels have codes with the
 * serial alone, codes with several fields ("SN:…;PN:…"), and codes with the WWN (16 hexadecimal digits that begin
 * with 5, in T10's NAA form).
 */
export function fromLabel(text: string): string {
  const whole = text.trim();
  const named = /(?:^|[^A-Z0-9])S\/?N\s*[:=]?\s*([A-Z0-9-]{4,})/i.exec(whole);
  if (named?.[1]) return named[1];
  if (!/^[A-Z0-9-]{4,40}$/i.test(whole) || /^(?:0x)?5[0-9A-F]{15}$/i.test(whole)) return "";
  return whole;
}
