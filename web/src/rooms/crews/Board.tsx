import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, keys, type Schemas, unwrap } from "@/shared/client";
import { Mark } from "@/design/Marks";
import { Empty, Failed, Loading, Pager } from "@/design/States";

type Asked = Record<"site" | "day" | "task" | "crew" | "numbers", string>;

/** The board: people down, set-ups across. A cairn may be worn, a wall may not, nothing was never passed. */
export function Board({ asked, period }: { asked: Asked; period: number }) {
  const [page, setPage] = useState(1);
  const query = { ...asked, page };
  const found = useQuery({
    queryKey: keys.board({ ...asked, page: String(page) }),
    queryFn: () => unwrap(api.GET("/api/board", { params: { query } })),
    placeholderData: (old) => old,
    refetchInterval: period,
  });
  if (found.isPending) return <Loading inside what="The board" />;
  if (found.isError) return <Failed inside error={found.error} again={() => void found.refetch()} />;
  const { columns, rows, pages } = found.data;
  if (!rows.length) return <Empty>Nobody is in this crew.</Empty>;
  if (!columns.length) return <Empty>None of them has passed in anything yet.</Empty>;
  return (
    <>
      <div className="board-frame">
        <table className="plain board">
          <thead>
            <tr>
              <th>Who</th>
              {columns.map((one) => (
                <th key={one.configuration}>
                  {one.model} <b>{one.size}</b>
                  <small>{one.setup}</small>
                  <small>{one.may} may</small>
                </th>
              ))}
              <th>Besides</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr key={one.person_id}>
                <th scope="row">
                  <Link to={`/people/${one.person_id}`}>{one.name}</Link> <span className="dim">{one.number}</span>
                </th>
                {one.cells.map((cell, i) => (
                  <td key={columns[i]?.configuration} className={cell.state}>
                    <BoardCell cell={cell} />
                  </td>
                ))}
                <td>
                  {one.others.map((words) => (
                    <small key={words}>{words}</small>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Pager page={page} pages={pages} go={setPage} />
    </>
  );
}

function BoardCell({ cell }: { cell: Schemas["BoardCell"] }) {
  if (!cell.state) return <span className="visually-hidden">never passed in it</span>;
  const why = cell.reasons.map((one) => one.sentence).join(" ");
  return (
    <>
      <Mark name={cell.state === "may" ? "cairn" : "wall"} size={24} />{" "}
      {cell.state === "may" ? cell.until : <small>{why}</small>}
      {cell.is_before && <small> not judged here</small>}
    </>
  );
}
