import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { client, got, type S } from "../api/client";
import { Empty, Failed, Title, Waiting } from "../parts/parts";
import { Import } from "./import";
import { Known, warrantyWords } from "./item";
import { Many } from "./many";
import { count } from "../parts/format";

/** The lists that are asked for most; each is a condition of the command line as well. */
const lists: [name: string, where: string][] = [
  ["All", ""],
  ["Warranty ends in the next 90 days", "warranty_days>=0,warranty_days<90"],
  ["Warranty ended", "warranty_days<0"],
  ["Sent back", "state=sent-back"],
  ["Ordered", "state=ordered"],
  ["Destroyed", "state=destroyed"],
];

const seenWords = { now: "", before: "gone", never: "never seen" } as const;

/** The columns for which a phone has no room; a drive's page shows them. */
const wide = ["Model", "Supplier", "Batch"];

/** most is the greatest number of drawn rows; longer lists are searched. */
const most = 200;

/** InventoryPage lists what people know of drives, such as purchase and warranty. */
export default function InventoryPage() {
  const [params, setParams] = useSearchParams();
  const where = params.get("where") ?? "";
  const [q, setQ] = useState("");
  const [open, setOpen] = useState("");
  const [chosen, setChosen] = useState<string[]>([]);
  const found = useQuery({
    queryKey: ["inventory", where, q],
    queryFn: () => got(client.GET("/inventory", { params: { query: { where, q } } })),
    placeholderData: (before) => before,
  });
  if (found.error) return <Failed what="The inventory" error={found.error} again={() => void found.refetch()} />;
  if (!found.data) return <Waiting rows={8} />;
  const shown = found.data.slice(0, most);
  return (
    <>
      <Title aside={count(found.data.length, "drive")}>Inventory</Title>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <input
          className="field w-64"
          type="search"
          aria-label="Find in the inventory"
          placeholder="serial, supplier, order, batch …"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <select
          className="field w-auto"
          aria-label="Which drives"
          value={where}
          onChange={(e) => setParams(e.target.value ? { where: e.target.value } : {})}
        >
          {lists.map(([name, is]) => (
            <option key={name} value={is}>
              {name}
            </option>
          ))}
          {!lists.some(([, is]) => is === where) && <option value={where}>{where}</option>}
        </select>
      </div>
      {chosen.length > 0 && <Many serials={chosen} clear={() => setChosen([])} />}
      {shown.length === 0 && <Empty>{where || q ? "No drive fits." : "No drive was reported or recorded yet."}</Empty>}
      <div className={shown.length ? "sheet overflow-x-auto" : "hidden"}>
        <table className="w-full text-left">
          <thead>
            <tr className="text-soft">
              <th scope="col" className="hidden w-11 pl-3 sm:table-cell">
                <input
                  type="checkbox"
                  className="size-5"
                  aria-label="Choose all shown"
                  checked={shown.length > 0 && shown.every((v) => chosen.includes(v.serial))}
                  onChange={(e) => setChosen(e.target.checked ? shown.map((v) => v.serial) : [])}
                />
              </th>
              {["Drive", "Model", "State", "Place", "Warranty", "Supplier", "Batch"].map((h) => (
                <th
                  key={h}
                  scope="col"
                  className={`px-3 py-2 font-normal ${wide.includes(h) ? "hidden sm:table-cell" : ""}`}
                >
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {shown.map((v) => (
              <Row
                key={v.serial}
                item={v}
                open={open === v.serial}
                toggle={() => setOpen(open === v.serial ? "" : v.serial)}
                chosen={chosen.includes(v.serial)}
                choose={(is) => setChosen(is ? [...chosen, v.serial] : chosen.filter((s) => s !== v.serial))}
              />
            ))}
          </tbody>
        </table>
      </div>
      {found.data.length > most && (
        <p className="mt-3 text-soft">
          The first {most} of {found.data.length} are shown; search for the others.
        </p>
      )}
      <Import />
    </>
  );
}

type RowProps = {
  item: S["InventoryItem"];
  open: boolean;
  toggle: () => void;
  chosen: boolean;
  choose: (is: boolean) => void;
};

function Row({ item: v, open, toggle, chosen, choose }: RowProps) {
  const soon = v.fields.warranty && (v.warranty_days ?? 0) >= 0 && (v.warranty_days ?? 0) < 90;
  return (
    <>
      <tr className="border-t border-line align-middle">
        <td className="hidden pl-3 sm:table-cell">
          <input
            type="checkbox"
            className="size-5"
            aria-label={`Choose ${v.serial}`}
            checked={chosen}
            onChange={(e) => choose(e.target.checked)}
          />
        </td>
        <td className="px-3 py-1.5">
          <button
            className="min-h-11 text-left underline-offset-2 hover:underline"
            aria-expanded={open}
            onClick={toggle}
            aria-label={`${v.serial}: what is known`}
          >
            {v.serial.slice(0, -5)}
            <b className="tail">{v.serial.slice(-5)}</b>
          </button>
        </td>
        <td className="hidden px-3 py-1.5 text-soft sm:table-cell">{v.model}</td>
        <td className="px-3 py-1.5">
          {v.state}
          {v.says && <span className="block font-semibold">{v.says}</span>}
        </td>
        <td className="px-3 py-1.5">
          {v.drive && v.seen === "now" ? (
            <Link to={`/drives/${v.drive}`} className="underline underline-offset-2">
              {v.place}
            </Link>
          ) : (
            <span className="text-soft">{seenWords[v.seen]}</span>
          )}
          {v.pool && <span className="text-soft"> {v.pool}</span>}
        </td>
        <td className={`px-3 py-1.5 ${soon ? "font-semibold" : "text-soft"}`}>{warrantyWords(v)}</td>
        <td className="hidden px-3 py-1.5 text-soft sm:table-cell">{v.fields.supplier}</td>
        <td className="hidden px-3 py-1.5 text-soft sm:table-cell">{v.fields.batch}</td>
      </tr>
      {open && (
        <tr>
          <td colSpan={8} className="px-3 pb-4">
            <Known item={v} />
          </td>
        </tr>
      )}
    </>
  );
}
