/** The report: the console's parts with one survey, in one file. */
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import type { Survey } from "../api/client";
import { Failing } from "../parts/states";
import { ReportPage, type Report } from "./page";
import "./report.css";

const root = document.getElementById("root");
const data = document.getElementById("report")?.textContent ?? "";

function page() {
  try {
    const report = JSON.parse(data) as Survey & Pick<Report, "sources">;
    return <ReportPage report={report} />;
  } catch (error) {
    return <Failing error={error instanceof Error ? error : new Error(String(error))} again={() => window.location.reload()} />;
  }
}

if (root) createRoot(root).render(<StrictMode>{page()}</StrictMode>);
