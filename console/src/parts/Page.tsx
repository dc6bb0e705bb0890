import { Empty } from "antd";
import type { ReactNode } from "react";

/** A page's head: its name, what narrows it down, and its one primary action at the right. */
export function PageHead({ title, children, action }: { title: ReactNode; children?: ReactNode; action?: ReactNode }) {
  return (
    <div className="page-head">
      <h1>{title}</h1>
      {children}
      <span className="spacer" />
      {action}
    </div>
  );
}

/** What a list says when it has nothing to show. */
export const nothing = (text: string) => ({ emptyText: <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description={text} /> });
