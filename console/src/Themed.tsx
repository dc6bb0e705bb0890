import { App, ConfigProvider } from "antd";
import type { ReactNode } from "react";
import { useDark } from "./palette";
import { themeFor } from "./theme";

/** antd in our colours, and what of it stands over the page. */
export function Themed({ children }: { children: ReactNode }) {
  const dark = useDark();
  return (
    <ConfigProvider theme={themeFor(dark)}>
      <App>{children}</App>
    </ConfigProvider>
  );
}
