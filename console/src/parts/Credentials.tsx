import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, App, Button, Space, Table, Tooltip } from "antd";
import { connect, gitHosts } from "../service/githosts";
import { credentials, dropCredential } from "../service/tokens";
import type { components } from "../api/schema";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { useAddress } from "./search";
import { useDone } from "./useDone";
import { exact, when } from "words/times";
import * as say from "words/parts/Credentials";

type Known = components["schemas"]["KnownCredential"];
type Row = { host: string; title: string; connects: boolean; has?: Known };

function how(r: Row) {
  if (!r.has) return say.notConnected();
  if (r.has.taken_back_at) return say.takenBack(when(r.has.taken_back_at));
  if (r.has.until) return say.lentUntil(when(r.has.until));
  return r.has.lent ? say.lent() : say.typed();
}

/** What one signs in to git hosts with, typed or lent by the host; the secret itself is never shown. */
export function Credentials() {
  const { modal } = App.useApp();
  const [get] = useAddress();
  const known = useQuery(credentials);
  const hosts = useQuery(gitHosts);
  const remove = useMutation({ mutationFn: dropCredential, ...useDone("credentials") });
  const go = useMutation({ mutationFn: connect });
  const rows: Row[] = (hosts.data ?? []).map((h) => ({ host: h.host, title: h.title, connects: true, has: known.data?.find((c) => c.host === h.host) }));
  for (const c of known.data ?? []) {
    if (!rows.some((r) => r.host === c.host)) rows.push({ host: c.host, title: c.host, connects: false, has: c });
  }
  const gone = (host: string) => void modal.confirm({ title: say.removeYourCredentialFor(host), content: say.launchesFromItAre(), okText: say.remove(), onOk: () => remove.mutateAsync(host).catch(() => undefined) });
  return (
    <section id="git-hosts">
      <h2 className="below">{say.gitHosts()}</h2>
      <ProblemNote error={known.error ?? hosts.error ?? remove.error ?? go.error} />
      {get("refused") === "git-host" && <Alert type="error" showIcon title={say.wasNotLetIn()} description={say.tryAgain()} style={{ marginBottom: 8 }} />}
      <Table<Row>
        size="small"
        rowKey="host"
        pagination={false}
        loading={known.isPending || hosts.isPending}
        dataSource={rows}
        locale={nothing(say.youHaveNoCredential())}
        columns={[
          {
            title: say.host(),
            render: (_, r) => (
              <>
                {r.title}
                {r.title !== r.host && <div className="quiet small">{r.host}</div>}
              </>
            ),
          },
          { title: say.userName(), render: (_, r) => r.has?.username },
          { title: say.how(), render: (_, r) => how(r) },
          { title: say.set(), render: (_, r) => r.has && <Tooltip title={exact(r.has.updated_at)}>{when(r.has.updated_at)}</Tooltip> },
          {
            title: "",
            align: "right",
            render: (_, r) => (
              <Space>
                {r.connects && (
                  <Button size="small" aria-label={say.connectWith(r.host)} loading={go.isPending && go.variables === r.host} onClick={() => go.mutate(r.host)}>
                    {r.has?.lent ? say.connectAgain() : say.connect()}
                  </Button>
                )}
                {r.has && (
                  <Button size="small" danger aria-label={say.removeTheCredentialFor(r.host)} onClick={() => gone(r.host)}>
                    {say.remove()}
                  </Button>
                )}
              </Space>
            ),
          },
        ]}
      />
    </section>
  );
}
