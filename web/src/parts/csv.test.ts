import { expect, it } from "vitest";
import { csv } from "./csv";

it("quotes what must be quoted, and lets a spreadsheet run nothing", () => {
  expect(
    csv(
      ["tail", "says", "bytes"],
      [
        ["ZU006", 'has "38", more', 4000787030016],
        ["=cmd", "@x", -5],
        [undefined, "two\nlines", ""],
      ],
    ),
  ).toBe('tail,says,bytes\r\nZU006,"has ""38"", more",4000787030016\r\n\'=cmd,\'@x,-5\r\n,"two\nlines",\r\n');
});
