import "@mantine/core/styles.css";
import "./workbench.css";
import { createTheme, MantineProvider } from "@mantine/core";
import { createRoot } from "react-dom/client";
import { Workbench } from "./Workbench.js";

const theme = createTheme({ primaryColor: "teal", primaryShade: 9, autoContrast: true });

createRoot(document.getElementById("root")!).render(
  <MantineProvider theme={theme} defaultColorScheme="auto">
    <Workbench />
  </MantineProvider>,
);
