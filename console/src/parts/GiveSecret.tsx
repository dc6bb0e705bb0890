import { App, Form, Input, Radio, Select } from "antd";
import { own, put, type Whose } from "../service/secrets";
import { Ask } from "./Ask";
import * as say from "words/parts/GiveSecret";

type Fields = { name: string; value: string; form: "variable" | "file" | "build"; path?: string; reach: "everywhere" | "named"; repositories: string[]; branches: string[] };

/**
 * The form that sets a secret of one level. With a name it is one's own for that one and
 * `repository`, as a launch asks for it.
 */
export function GiveSecret({ name, repository, of = own, repositories, onClose }: { name?: string; repository?: string; of?: Whose; repositories?: string[]; onClose: () => void }) {
  const { message } = App.useApp();
  const shared = of.level === "repository" || of.level === "house";
  return (
    <Ask<Fields>
      title={name ? say.give(name) : say.aSecretOf(of)}
      ok={say.setIt()}
      initial={{ name, form: "variable", reach: repository ? "named" : undefined, repositories: repository ? [repository] : [], branches: [] }}
      ask={async (f) => {
        const set = await put(of, name ?? f.name, {
          value: f.value,
          form: f.form,
          path: f.form === "file" && f.path ? f.path : undefined,
          everywhere: of.level !== "repository" && f.reach === "everywhere",
          repositories: of.level !== "repository" && f.reach === "named" ? f.repositories : undefined,
          branches: name ? undefined : f.branches,
        });
        if (set.doubt) void message.warning(set.doubt, 8);
      }}
      changes={["secrets", "preflight", "workspaces"]}
      onClose={onClose}
    >
      {!name && (
        <Form.Item name="name" label={say.name()} rules={[{ required: true, message: say.aNameLikeTide() }]}>
          <Input spellCheck={false} autoComplete="off" placeholder={say.tideApiKey()} />
        </Form.Item>
      )}
      <Form.Item name="value" label={say.value()} rules={[{ required: true, message: say.theValue() }]} extra={say.itIsSealedAnd()}>
        <Input.TextArea autoSize={{ minRows: 1, maxRows: 6 }} spellCheck={false} autoComplete="off" className="hidden-text" aria-label={say.value()} />
      </Form.Item>
      <Form.Item name="form" label={say.handedOverAs()}>
        <Radio.Group options={[{ value: "variable", label: say.aVariable() }, { value: "file", label: say.aFileWithIts() }, ...(shared ? [{ value: "build", label: say.aBuildSecret() }] : [])]} />
      </Form.Item>
      {of.level === "person" && <Place />}
      {of.level !== "repository" && <Reach of={of} repositories={repositories ?? (repository ? [repository] : [])} />}
      {!name && (
        <Form.Item name="branches" label={say.onBranches()} extra={say.patternsLike()}>
          <Select mode="tags" open={false} suffixIcon={null} aria-label={say.onBranches()} placeholder={say.everyBranch()} />
        </Form.Item>
      )}
    </Ask>
  );
}

/** Where a file of one's own stands too. */
function Place() {
  return Form.useWatch<Fields["form"]>("form") === "file" ? (
    <Form.Item name="path" label={say.alsoAt()} extra={say.aLinkLeads()}>
      <Input spellCheck={false} autoComplete="off" placeholder={say.configTideKey()} />
    </Form.Item>
  ) : null;
}

/** Whom one is given to: said explicitly. */
function Reach({ of, repositories }: { of: Whose; repositories: string[] }) {
  const reach = Form.useWatch<Fields["reach"]>("reach");
  return (
    <>
      <Form.Item name="reach" label={say.givenTo()} rules={[{ required: true, message: say.sayWhomItIs() }]}>
        <Radio.Group
          options={[
            { value: "named", label: say.workspacesOfThese(of) },
            { value: "everywhere", label: say.allWorkspaces(of) },
          ]}
        />
      </Form.Item>
      {reach === "named" && (
        <Form.Item name="repositories" rules={[{ required: true, message: say.nameAtLeastOne() }]}>
          <Select mode="multiple" aria-label={say.repositories()} options={repositories.map((r) => ({ value: r, label: r }))} />
        </Form.Item>
      )}
    </>
  );
}
