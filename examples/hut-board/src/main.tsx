import "@mantine/core/styles.css";
import "./board.css";
import { createTheme, MantineProvider } from "@mantine/core";
import { createRoot } from "react-dom/client";
import { Board } from "./Board.js";

const theme = createTheme({ primaryColor: "teal", primaryShade: 9, autoContrast: true });

createRoot(document.getElementById("root")!).render(
  <MantineProvider theme={theme} defaultColorScheme="auto">
    <Board />
  </MantineProvider>,
);
