/** All parts of the bar but the sites. */
import type { Scope } from "../../scope";
import { AgainstChoice, ServerChoice, WhoChoice } from "./choices";
import { Chips } from "./chips";
import { FilterField } from "./filter-field";
import { PeriodChoice } from "./period-choice";
import type { Change } from "./sites";
import { ReportMenu } from "./report-menu";

export default function Whole({ zone, scope, change }: { zone: string; scope: Scope; change: Change }) {
  return (
    <>
      <ServerChoice scope={scope} change={change} />
      <PeriodChoice zone={zone} scope={scope} change={change} />
      <AgainstChoice zone={zone} scope={scope} change={change} />
      <WhoChoice scope={scope} change={change} />
      <FilterField scope={scope} change={change} />
      <Chips scope={scope} change={change} />
      <span className="ml-auto">
        <ReportMenu zone={zone} scope={scope} />
      </span>
    </>
  );
}
