/** A plot as a React component: one picture with one name. */

import * as Plot from "@observablehq/plot";
import { useEffect, useRef } from "react";

export function Figure({ label, options }: { readonly label: string; readonly options: Plot.PlotOptions }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const plot = Plot.plot({ width: 560, height: 210, ...options });
    for (const part of plot.querySelectorAll("[aria-label]")) part.removeAttribute("aria-label");
    const picture = plot.tagName === "svg" ? plot : plot.querySelector("svg:last-of-type")!;
    picture.setAttribute("role", "img");
    picture.setAttribute("aria-label", label);
    host.current?.replaceChildren(plot);
  }, [label, options]);
  return <div className="figure" ref={host} />;
}
