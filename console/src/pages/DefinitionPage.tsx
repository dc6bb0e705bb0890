import { CheckCircleFilled } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { Input, Select, Space, Table, Tabs, theme } from "antd";
import { Link, useParams } from "react-router";
import { Findings } from "../parts/Findings";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { definition, definitionChanges } from "../service/repositories";

/** A repository's environment definition at a branch's head: what is wrong with it, and what it comes to. */
export function DefinitionPage() {
  const { token } = theme.useToken();
  const { repository = "" } = useParams();
  const [get, set] = useAddress();
  const branch = get("branch") ?? "";
  const name = get("name") ?? "";
  const check = useQuery(definition(repository, branch, name));
  const found = check.data;
  const names = found?.names ?? [];
  return (
    <>
      <PageHead title={<>The definition of <Link to={`/repositories/${repository}`}>{repository}</Link></>} action={<Link to={`/launch?repository=${repository}${branch && `&branch=${encodeURIComponent(branch)}`}`}>Launch from it</Link>}>
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
                children: (found.values?.length ?? 0) > 0 ? <Values of={found} /> : <p>{refused}</p>,
              },
              {
                key: "steps",
                label: "What a launch does",
                children: (found.values?.length ?? 0) > 0 ? <Steps of={found.steps ?? []} /> : <p>{refused}</p>,
              },
              ...(branch ? [{ key: "changes", label: "What the branch changes", children: <Changes repository={repository} branch={branch} name={name} /> }] : []),
            ]}
          />
        </section>
      )}
    </>
  );
}

const refused = "It is refused, and comes to nothing.";

type Step = { when: string; what: string; as?: string; where?: string; from: string };

/** What a launch does because of the definition, in order. */
function Steps({ of: steps }: { of: Step[] }) {
  return (
    <Table
      size="small"
      pagination={false}
      rowKey={(s) => s.when + s.what + s.from}
      dataSource={steps}
      locale={{ emptyText: "It runs nothing of its own." }}
      columns={[
        { title: "When", dataIndex: "when", width: 130 },
        { title: "What", dataIndex: "what", render: (w: string) => <code>{w}</code> },
        { title: "As", dataIndex: "as", width: 150 },
        { title: "Where", dataIndex: "where", width: "20%", render: (w?: string) => w && <code>{w}</code> },
        { title: "From", dataIndex: "from", width: "26%", render: (o: string) => <span className="quiet">{o}</span> },
      ]}
    />
  );
}

/** What differs on a branch from the repository's own, and what that makes due. */
function Changes({ repository, branch, name }: { repository: string; branch: string; name: string }) {
  const diff = useQuery(definitionChanges(repository, branch, name));
  if (!diff.data) return <ProblemNote error={diff.error} />;
  if (diff.data.changes.length === 0) return <p>It comes to the same as the repository's own branch.</p>;
  return (
    <>
      <p>
        Due with it: <strong>{diff.data.due}</strong>.
      </p>
      <Table
        size="small"
        pagination={false}
        rowKey="key"
        dataSource={diff.data.changes}
        columns={[
          { title: "Value", dataIndex: "key", width: "26%", render: (k: string) => <code>{k}</code> },
          { title: "Before", dataIndex: "old", render: (v: string) => v || <span className="quiet">none</span> },
          { title: "On this branch", dataIndex: "new", render: (v: string) => v || <span className="quiet">none</span> },
        ]}
      />
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
