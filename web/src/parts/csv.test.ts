import { expect, it } from "vitest";
import { csv, plain, table } from "./csv";

it("quotes what must be quoted, and lets a spreadsheet run nothing", () => {
  expect(
    csv(
      ["tail", "says", "bytes"],
      [
        ["ZU006", 'has "38", more', 4000787030016],
        ["=cmd", "@x", -5],
        ["-1+cmd|x", "+1", "-1.5"],
        [undefined, "two\nlines", ""],
      ],
    ),
  ).toBe(
    'tail,says,bytes\r\nZU006,"has ""38"", more",4000787030016\r\n\'=cmd,\'@x,-5\r\n\'-1+cmd|x,\'+1,-1.5\r\n,"two\nlines",\r\n',
  );
});

it("reads what it wrote, with quotes, commas, line ends and the line on which each row begins", () => {
  const rows = [
    ["A1", 'say "no", twice', "x"],
    ["B2", "two\nlines", ""],
    ["C3", "=cmd", "-1+x"],
  ];
  const read = table("\ufeff" + csv(["Serial", " note ", "place"], rows));
  expect(read.heads).toEqual(["serial", "note", "place"]);
  expect(read.rows.map((r) => r.cells.map(plain))).toEqual(rows);
  expect(read.rows.map((r) => r.line)).toEqual([2, 3, 5]);
  expect(table("a,b\n1,2").rows).toEqual([{ line: 2, cells: ["1", "2"] }]);
  expect(() => table("")).toThrow("no lines");
  expect(() => table("a,b\n1")).toThrow("Line 2 has 1 cells");
  expect(() => table('a\n"x')).toThrow("has no end");
});
