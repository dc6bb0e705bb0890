import { App, Checkbox, Form, Input, Radio, Select } from "antd";
import { own, put, type Whose } from "../service/secrets";
import { Ask } from "./Ask";
import * as say from "words/parts/GiveSecret";

type Fields = { name: string; value: string; form: "variable" | "file" | "build" | "registry"; path?: string; owner?: string; registry?: string; username?: string; prebuilds?: boolean; reach: "everywhere" | "named"; repositories: string[]; branches: string[] };

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
          owner: f.form === "file" && f.owner ? f.owner : undefined,
          registry: f.form === "registry" ? f.registry : undefined,
          username: f.form === "registry" ? f.username : undefined,
          prebuilds: f.prebuilds || undefined,
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
        <Radio.Group
          options={[
            { value: "variable", label: say.aVariable() },
            { value: "file", label: say.aFileWithIts() },
            ...(shared
              ? [
                  { value: "build", label: say.aBuildSecret() },
                  { value: "registry", label: say.signsInToARegistry() },
                ]
              : []),
          ]}
        />
      </Form.Item>
      <OfFile own={of.level === "person"} />
      {shared && <OfImages />}
      {of.level !== "repository" && <Reach of={of} repositories={repositories ?? (repository ? [repository] : [])} />}
      {!name && (
        <Form.Item name="branches" label={say.onBranches()} extra={say.patternsLike()}>
          <Select mode="tags" open={false} suffixIcon={null} aria-label={say.onBranches()} placeholder={say.everyBranch()} />
        </Form.Item>
      )}
    </Ask>
  );
}

/** Of a file: where one of one's own stands too, and whose it is. */
function OfFile({ own }: { own: boolean }) {
  if (Form.useWatch<Fields["form"]>("form") !== "file") return null;
  return (
    <>
      {own && (
        <Form.Item name="path" label={say.alsoAt()} extra={say.aLinkLeads()}>
          <Input spellCheck={false} autoComplete="off" placeholder={say.configTideKey()} />
        </Form.Item>
      )}
      <Form.Item name="owner" label={say.theFileIs()} extra={say.aUserOfTheImage()}>
        <Input spellCheck={false} autoComplete="off" maxLength={32} placeholder={say.theWorkspacesUser()} />
      </Form.Item>
    </>
  );
}

/** Of one that is a repository's or the house's: what it has to do with images. */
function OfImages() {
  const form = Form.useWatch<Fields["form"]>("form");
  if (form === "build") return null;
  return form === "registry" ? (
    <>
      <Form.Item name="registry" label={say.registry()} rules={[{ required: true, message: say.theRegistry() }]} extra={say.itsHost()}>
        <Input spellCheck={false} autoComplete="off" placeholder={say.imagesSkerry()} />
      </Form.Item>
      <Form.Item name="username" label={say.signsInAs()} rules={[{ required: true, message: say.whoSignsIn() }]} extra={say.theValueIs()}>
        <Input spellCheck={false} autoComplete="off" />
      </Form.Item>
    </>
  ) : (
    <Form.Item name="prebuilds" valuePropName="checked">
      <Checkbox>{say.inPrebuilds()}</Checkbox>
    </Form.Item>
  );
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
