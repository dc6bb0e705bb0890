import { App, ConfigProvider } from "antd";
import type { ReactNode } from "react";
import type { Me } from "./api/client";
import { Frame } from "./Frame";
import { EnrolPage } from "./pages/EnrolPage";
import { useDark } from "./palette";
import { themeFor } from "./theme";

function Themed({ children }: { children: ReactNode }) {
  const dark = useDark();
  return (
    <ConfigProvider theme={themeFor(dark)}>
      <App>{children}</App>
    </ConfigProvider>
  );
}

/** What is within: for whoever is signed in. */
export function Inside({ person }: { person: Me }) {
  return (
    <Themed>
      <Frame person={person} />
    </Themed>
  );
}

/** What is seen of an enrolment link. */
export function Enrolling() {
  return (
    <Themed>
      <EnrolPage />
    </Themed>
  );
}
