import { expect, test } from "vitest";
import { fromLabel } from "./label";

test.each([
  ["VR7ZU006", "VR7ZU006"],
  ["  VR7-ZU006\n", "VR7-ZU006"],
  ["SN:VR7ZU006;PN:OF-8T", "VR7ZU006"],
  ["PN OF-8T, S/N VR7ZU006", "VR7ZU006"],
  ["5000C500A1B2C3D4", ""], // a WWN
  ["0x5000c500a1b2c3d4", ""],
  ["https://maker.example/support", ""],
  ["abc", ""],
  ["", ""],
])("%j gives %j", (text, serial) => expect(fromLabel(text)).toBe(serial));
