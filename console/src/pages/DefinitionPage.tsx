import { CheckCircleFilled } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { Input, Select, Space, Table, Tabs, theme } from "antd";
import { Link, useParams } from "react-router";
import { Findings } from "../parts/Findings";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { definition, definitionChanges } from "../service/repositories";
import * as say from "words/pages/DefinitionPage";

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
      <PageHead title={say.theDefinitionOf(<Link to={`/repositories/${repository}`}>{repository}</Link>)} action={<Link to={`/launch?repository=${repository}${branch && `&branch=${encodeURIComponent(branch)}`}`}>{say.launchFromIt()}</Link>}>
        {names.length > 1 && <Select aria-label={say.whichDefinition()} style={{ width: 160 }} value={name} onChange={(n) => set({ name: n })} options={names.map((n) => ({ value: n, label: n || say.theFirst() }))} />}
        <Input.Search placeholder={say.anotherBranch()} enterButton={say.look()} spellCheck={false} aria-label={say.branch()} style={{ width: 260 }} defaultValue={branch} loading={check.isFetching} onSearch={(b) => (b.trim() === branch ? void check.refetch() : set({ branch: b.trim() }))} />
      </PageHead>
      <ProblemNote error={check.error} />
      {found && !check.error && (
        <section aria-label={say.whatWasFound()} data-commit={found.commit}>
          <p className="quiet">{say.at(found.branch, <code>{found.commit?.slice(0, 10)}</code>)}</p>
          <Tabs
            activeKey={get("view") ?? "found"}
            onChange={(view) => set({ view })}
            items={[
              {
                key: "found",
                label: found.findings.length > 0 ? say.whatWasFoundOfFindings(found.findings.length) : say.whatWasFound(),
                children:
                  found.findings.length > 0 ? (
                    <Findings of={found.findings} />
                  ) : (
                    <>
                      <CheckCircleFilled style={{ color: token.colorSuccess }} /> {say.nothingIsWrongWith()}
                    </>
                  ),
              },
              {
                key: "values",
                label: say.whatItComesTo(),
                children: (found.values?.length ?? 0) > 0 ? <Values of={found} /> : <p>{refused}</p>,
              },
              {
                key: "steps",
                label: say.whatALaunchDoes(),
                children: (found.values?.length ?? 0) > 0 ? <Steps of={found.steps ?? []} /> : <p>{refused}</p>,
              },
              ...(branch ? [{ key: "changes", label: say.whatTheBranchChanges(), children: <Changes repository={repository} branch={branch} name={name} /> }] : []),
            ]}
          />
        </section>
      )}
    </>
  );
}

const refused = say.itIsRefusedAnd();

type Step = { when: string; what: string; as?: string; where?: string; from: string };

/** What a launch does because of the definition, in order. */
function Steps({ of: steps }: { of: Step[] }) {
  return (
    <Table
      size="small"
      pagination={false}
      rowKey={(s) => s.when + s.what + s.from}
      dataSource={steps}
      locale={{ emptyText: say.itRunsNothingOf() }}
      columns={[
        { title: say.when(), dataIndex: "when", width: 130 },
        { title: say.what(), dataIndex: "what", render: (w: string) => <code>{w}</code> },
        { title: say.as(), dataIndex: "as", width: 150 },
        { title: say.where(), dataIndex: "where", width: "20%", render: (w?: string) => w && <code>{w}</code> },
        { title: say.from(), dataIndex: "from", width: "26%", render: (o: string) => <span className="quiet">{o}</span> },
      ]}
    />
  );
}

/** What differs on a branch from the repository's own, and what that makes due. */
function Changes({ repository, branch, name }: { repository: string; branch: string; name: string }) {
  const diff = useQuery(definitionChanges(repository, branch, name));
  if (!diff.data) return <ProblemNote error={diff.error} />;
  if (diff.data.changes.length === 0) return <p>{say.itComesToThe()}</p>;
  return (
    <>
      <p>{say.dueWithIt(<strong>{diff.data.due}</strong>)}</p>
      <Table
        size="small"
        pagination={false}
        rowKey="key"
        dataSource={diff.data.changes}
        columns={[
          { title: say.value(), dataIndex: "key", width: "26%", render: (k: string) => <code>{k}</code> },
          { title: say.before(), dataIndex: "old", render: (v: string) => v || <span className="quiet">{say.none()}</span> },
          { title: say.onThisBranch(), dataIndex: "new", render: (v: string) => v || <span className="quiet">{say.none()}</span> },
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
          { title: say.value(), dataIndex: "key", width: "32%", render: (k: string) => <code>{k}</code> },
          { title: say.is(), dataIndex: "value" },
          { title: say.from(), dataIndex: "origin", width: "30%", render: (o: string) => <span className="quiet">{o}</span> },
        ]}
      />
      <dl className="facts one">
        <dt>{say.fingerprint()}</dt>
        <dd>
          <code>{found.fingerprint}</code>
        </dd>
        {found.images?.map((i) => (
          <div key={i.name} style={{ display: "contents" }}>
            <dt>{say.beginsWith()}</dt>
            <dd>
              {i.name} <code className="quiet">{i.digest || say.whichTheYardDoes()}</code>
            </dd>
          </div>
        ))}
        <dt>{say.comesTo()}</dt>
        <dd>{found.built ? <code>{found.built}</code> : <span className="quiet">{say.notBuiltYetWhat()}</span>}</dd>
      </dl>
    </Space>
  );
}
