import { BrowserMultiFormatReader } from "@zxing/browser";
import { BarcodeFormat, DecodeHintType } from "@zxing/library";

/** scan reads codes of labels from the camera until it is stopped, and gives the text of each. */
export async function scan(video: HTMLVideoElement, give: (text: string) => void): Promise<() => void> {
  const hints = new Map<DecodeHintType, unknown>([
    [DecodeHintType.POSSIBLE_FORMATS, [BarcodeFormat.CODE_128, BarcodeFormat.DATA_MATRIX, BarcodeFormat.QR_CODE]],
    [DecodeHintType.TRY_HARDER, true],
  ]);
  const reader = new BrowserMultiFormatReader(hints, { delayBetweenScanAttempts: 100 });
  const going = await reader.decodeFromConstraints(
    { video: { facingMode: "environment", width: { ideal: 1280 } } },
    video,
    (result) => result && give(result.getText()),
  );
  return () => going.stop();
}
