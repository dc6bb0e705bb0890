import { useQuery } from "@tanstack/react-query";
import { Button, Drawer, Dropdown, Form, Input, Space } from "antd";
import { DownOutlined, ProfileOutlined } from "@ant-design/icons";
import { useCallback, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { nameOf, type WorkspaceRow, type Me, may, ledBy } from "../api/client";
import { Ask } from "../parts/Ask";
import { PageHead } from "../parts/Page";
import { Quarantine } from "../parts/Quarantine";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { Story } from "../parts/Story";
import { TakeOn } from "../parts/TakeOn";
import { useKept } from "../service/kept";
import { workspaces } from "../service/workspaces";
import { WorkspaceList } from "../parts/WorkspaceList";
import * as say from "words/pages/FleetPage";

/** Everybody's workspaces whom one may see; one of them can be looked into beside the list. */
export function FleetPage({ person }: { person: Me }) {
  const navigate = useNavigate();
  const [get, set] = useAddress();
  const list = useQuery(workspaces(true));
  const open = get("open");
  const look = useCallback(
    (w: WorkspaceRow) => (
      <button type="button" className="look" title={say.lookIntoItHere()} aria-label={say.lookInto(nameOf(w))} onClick={() => set({ open: nameOf(w) })}>
        <ProfileOutlined />
      </button>
    ),
    [set],
  );
  return (
    <>
      <PageHead
        title={!may(person, "workspace.see", "other") ? say.workspacesOfMyTeam(ledBy(person).join(", ") || person.team) : say.fleet()}
        action={
          <Space>
            {may(person, "container.adopt") && <TakeOn />}
            {may(person, "workspace.launch") && (
              <Button type="primary" onClick={() => navigate("/launch")}>
                {say.launchAWorkspace()}
              </Button>
            )}
          </Space>
        }
      >
        <Views />
        <Link to="/operations">{say.operations()}</Link>
      </PageHead>
      <ProblemNote error={list.error} />
      {may(person, "container.adopt") && <Quarantine />}
      <WorkspaceList
        rows={list.data ?? nobody}
        person={person}
        all
        loading={list.isPending}
        look={look}
        head={(shown) => (
          <span className="quiet number nowrap" data-shown={shown.length}>
            {say.shownReady(shown.length, shown.filter((w) => w.phase === "ready").length)}
          </span>
        )}
      />
      <Drawer open={Boolean(open)} size={760} onClose={() => set({ open: undefined, view: undefined })} title={open && <Link to={`/workspaces/${open}`}>{open}</Link>} destroyOnHidden>
        {open && <Story key={open} name={open} person={person} />}
      </Drawer>
    </>
  );
}

const nobody: never[] = [];

/** What of the address a view is: what is looked for, not what is open. */
const viewKeys = ["find", "state", "team", "owner", "repository", "size", "sort", "columns"];

/** Views of the fleet that somebody named, to come back to. */
function Views() {
  const [search, setSearch] = useSearchParams();
  const [views, keep] = useKept<Record<string, string>>("fleet-views", {});
  const [naming, setNaming] = useState(false);
  const now = new URLSearchParams([...search].filter(([k]) => viewKeys.includes(k)).sort()).toString();
  const shown = Object.keys(views).find((name) => views[name] === now);
  const items = [
    ...Object.keys(views)
      .sort()
      .map((name) => ({ key: name, label: name })),
    ...(Object.keys(views).length ? [{ type: "divider" as const }] : []),
    { key: "/keep", label: say.keepThisView(), disabled: now === "" || Boolean(shown) },
    ...(shown ? [{ key: "/forget", label: say.forget(shown) }] : []),
    { key: "/all", label: say.everything(), disabled: now === "" },
  ];
  return (
    <>
      <Dropdown
        trigger={["click"]}
        menu={{
          items,
          onClick: ({ key }) => {
            if (key === "/keep") setNaming(true);
            else if (key === "/forget") keep(Object.fromEntries(Object.entries(views).filter(([n]) => n !== shown)));
            else setSearch(key === "/all" ? "" : (views[key] ?? ""));
          },
        }}
      >
        <Button>
          {shown ?? say.views()} <DownOutlined />
        </Button>
      </Dropdown>
      {naming && (
        <Ask<{ name: string }> title={say.keepThisView2()} ok={say.keep()} about={say.itIsYoursAlone()} ask={(f) => Promise.resolve(keep({ ...views, [f.name.trim()]: now }))} changes={[]} onClose={() => setNaming(false)}>
          <Form.Item name="name" label={say.nameOfTheView()} rules={[{ required: true, whitespace: true, message: say.itsNamePlease() }]}>
            <Input autoFocus aria-label={say.nameOfTheView()} placeholder={say.whatItShows()} maxLength={60} />
          </Form.Item>
        </Ask>
      )}
    </>
  );
}
