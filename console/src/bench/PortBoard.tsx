import { ExportOutlined, ReloadOutlined } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { Button, Input, Space, Spin } from "antd";
import { useState } from "react";
import { nameOf, type Workspace } from "../api/client";
import { visitors } from "../parts/Ports";
import { ProblemNote } from "../parts/ProblemNote";
import { framePass, ports } from "../service/workspaces";
import * as say from "words/bench/PortBoard";

/** The page behind a port, in a frame that may do what a page may and reach nothing of ours. */
export function PortBoard({ workspace: w, port }: { workspace: Workspace; port: number }) {
  const name = nameOf(w);
  const all = useQuery(ports(name));
  const p = all.data?.find((o) => o.number === port);
  const [path, setPath] = useState("/");
  const [at, setAt] = useState({ path: "/", round: 0 });
  const address = p && new URL(at.path, p.address).href;
  const listening = p?.listening === true;
  const pass = useQuery({ queryKey: ["frame", name, port, at, listening], queryFn: () => framePass(address!), enabled: Boolean(address) && listening, retry: false, gcTime: 0, staleTime: Infinity });
  const load = (to: string) => setAt((old) => ({ path: to.startsWith("/") ? to : `/${to}`, round: old.round + 1 }));
  return (
    <div className="port-board" data-port={port}>
      <Space className="board-bar" wrap={false}>
        <Button size="small" icon={<ReloadOutlined />} aria-label={say.loadPortAgain(port)} onClick={() => load(path)} />
        <Input size="small" className="port-path" aria-label={say.path()} value={path} onChange={(e) => setPath(e.target.value)} onPressEnter={() => load(path)} />
        {address && (
          <Button size="small" icon={<ExportOutlined />} href={address} target="_blank" rel="noreferrer">
            {say.inATab()}
          </Button>
        )}
        {p && <span className="quiet small nowrap">{visitors.find((v) => v.value === p.visitors)?.label}</span>}
      </Space>
      <ProblemNote error={all.error ?? pass.error} />
      {all.isPending ? (
        <Spin />
      ) : !listening ? (
        <p className="board-note">{say.nothingListensOnPort(port, w.phase === "ready")}</p>
      ) : (
        pass.data && <iframe key={at.round} title={say.portOf(port, w.name)} src={pass.data.go} referrerPolicy="origin" sandbox="allow-scripts allow-same-origin allow-forms allow-modals allow-downloads allow-popups allow-popups-to-escape-sandbox" allow="clipboard-write" />
      )}
    </div>
  );
}
