import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { client, got } from "../api/client";
import { Ago, Failed, Title, Waiting } from "../parts/parts";
import { Standing } from "./standing";

export default function RecoveryPage() {
  const { id = "" } = useParams();
  const q = useQuery({ queryKey: ["recoveries", id], queryFn: () => got(client.GET("/recoveries/{id}", { params: { path: { id } } })) });
  if (q.error) return <Failed what="The recovery" error={q.error} again={() => void q.refetch()} />;
  if (!q.data) return <Waiting />;
  const r = q.data;
  return (
    <>
      <Title aside={<>{r.state} · began <Ago at={r.started_at} /> · seen <Ago at={r.seen_at} /></>}>
        <span className="capitalize">{r.kind}</span> {r.drive && r.tail && <>of <Link to={`/drives/${r.drive}`} className="tail">{r.tail}</Link></>} in <Link to={`/pools/${r.pool}`}>{r.pool}</Link>
      </Title>
      <div className="sheet p-5"><Standing recovery={r} height={340} /></div>
    </>
  );
}
