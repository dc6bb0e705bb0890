import { CheckCircleFilled } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { Input, Select, Space, Table, Tabs, theme } from "antd";
import { Link, useParams } from "react-router";
import { api, take } from "../api/client";
import { Findings } from "../parts/Findings";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";

/** A repository's environment definition at a branch's head: what is wrong with it, and what it comes to. */
export function DefinitionPage() {
  const { token } = theme.useToken();
  const { repository = "" } = useParams();
  const [get, set] = useAddress();
  const branch = get("branch") ?? "";
  const name = get("name") ?? "";
  const check = useQuery({
    queryKey: ["definition", repository, branch, name],
    queryFn: ({ signal }) => take(api.GET("/api/v1/repositories/{repository}/definition", { signal, params: { path: { repository }, query: { branch: branch || undefined, name: name || undefined } } })),
    retry: false,
    gcTime: 0, // each look is at the head as it is
  });
  const found = check.data;
  const names = found?.names ?? [];
  return (
    <>
      <PageHead title={`The definition of ${repository}`} action={<Link to={`/launch?repository=${repository}${branch && `&branch=${encodeURIComponent(branch)}`}`}>Launch from it</Link>}>
        {names.length > 1 && <Select aria-label="Which definition" style={{ width: 160 }} value={name} onChange={(n) => set({ name: n })} options={names.map((n) => ({ value: n, label: n || "the first" }))} />}
        <Input.Search placeholder="another branch" enterButton="Look" spellCheck={false} aria-label="Branch" style={{ width: 260 }} defaultValue={branch} loading={check.isFetching} onSearch={(b) => (b.trim() === branch ? void check.refetch() : set({ branch: b.trim() }))} />
      </PageHead>
      <ProblemNote error={check.error} />
      {found && !check.error && (
        <section aria-label="What was found" data-commit={found.commit}>
          <p className="quiet">
            {found.branch} at <code>{found.commit?.slice(0, 10)}</code>
          </p>
          <Tabs
            activeKey={get("view") ?? "found"}
            onChange={(view) => set({ view })}
            items={[
              {
                key: "found",
                label: found.findings.length > 0 ? `What was found (${found.findings.length})` : "What was found",
                children:
                  found.findings.length > 0 ? (
                    <Findings of={found.findings} />
                  ) : (
                    <>
                      <CheckCircleFilled style={{ color: token.colorSuccess }} /> nothing is wrong with the definition
                    </>
                  ),
              },
              {
                key: "values",
                label: "What it comes to",
                children: (found.values?.length ?? 0) > 0 ? <Values of={found} /> : <p>It is refused, and comes to nothing.</p>,
              },
            ]}
          />
        </section>
      )}
    </>
  );
}

type Found = { values?: { key: string; value: string; origin: string }[]; fingerprint?: string; images?: { name: string; digest?: string }[]; built?: string };

/** Each value with where it is from, and what goes into the image. */
function Values({ of: found }: { of: Found }) {
  return (
    <Space orientation="vertical" size={16} style={{ width: "100%" }}>
      <Table
        size="small"
        pagination={false}
        rowKey={(v) => v.key + v.value + v.origin}
        dataSource={found.values}
        columns={[
          { title: "Value", dataIndex: "key", width: "32%", render: (k: string) => <code>{k}</code> },
          { title: "Is", dataIndex: "value" },
          { title: "From", dataIndex: "origin", width: "30%", render: (o: string) => <span className="quiet">{o}</span> },
        ]}
      />
      <dl className="facts one">
        <dt>Fingerprint</dt>
        <dd>
          <code>{found.fingerprint}</code>
        </dd>
        {found.images?.map((i) => (
          <div key={i.name} style={{ display: "contents" }}>
            <dt>Begins with</dt>
            <dd>
              {i.name} <code className="quiet">{i.digest || "which the yard does not have yet"}</code>
            </dd>
          </div>
        ))}
        <dt>Comes to</dt>
        <dd>{found.built ? <code>{found.built}</code> : <span className="quiet">not built yet: what its image's label says is not in the table</span>}</dd>
      </dl>
    </Space>
  );
}
