import { createRootRoute, createRoute, createRouter, redirect, type ErrorComponentProps } from "@tanstack/react-router";
import { UsersPage } from "./access/UsersPage";
import { AsLeftPage } from "./checkout/AsLeftPage";
import { HandOverPage } from "./checkout/HandOverPage";
import { CheckoutPage } from "./checkout/CheckoutPage";
import { RecordPage } from "./checkout/RecordPage";
import { SnapshotsPage } from "./checkout/SnapshotsPage";
import { TrendsPage } from "./checkout/trend/TrendsPage";
import { CrossingsPage } from "./crossings/CrossingsPage";
import { ListPage } from "./crossings/ListPage";
import { ListsPage } from "./crossings/ListsPage";
import { TwinPage } from "./crossings/TwinPage";
import { AddNames, PairingPage } from "./crossings/PairingPage";
import { GatewayPage } from "./gateway/GatewayPage";
import { LinesPage } from "./lines/LinesPage";
import { FilesPage } from "./points/FilesPage";
import { DatasheetsPage } from "./points/DatasheetsPage";
import { BrowsePage } from "./points/BrowsePage";
import { NamesPage } from "./points/NamesPage";
import { PointsPage } from "./points/PointsPage";
import { Gate } from "./Gate";
import { TimetablePage } from "./timetable/TimetablePage";
import { CodebookPage } from "./traffic/CodebookPage";
import { LookoutsPage } from "./traffic/LookoutsPage";
import { RecordingPage } from "./traffic/RecordingPage";
import { RecordingsPage } from "./traffic/RecordingsPage";
import { RelaysPage } from "./traffic/Relays";
import { TrafficPage } from "./traffic/TrafficPage";

// The address bar names the place: every device, point, request, crossing,
// exchange and finding has an address that can be sent to a colleague.
const root = createRootRoute({
  component: Gate,
  notFoundComponent: () => <p className="p-8">There is nothing at this address. Choose a stop above.</p>,
});
const at = <P extends string>(path: P, component: () => React.ReactNode) =>
  createRoute({ getParentRoute: () => root, path, component });

const tree = root.addChildren([
  createRoute({
    getParentRoute: () => root,
    path: "/",
    beforeLoad: () => {
      throw redirect({ to: "/lines" });
    },
  }),
  at("/lines", LinesPage),
  at("/lines/gateway", GatewayPage),
  at("/lines/$kind/$id", LinesPage),
  at("/points", PointsPage),
  at("/points/datasheets", DatasheetsPage),
  at("/points/files", FilesPage),
  at("/points/files/$device", FilesPage),
  at("/points/datasheets/$sheet", DatasheetsPage),
  at("/points/names/$device", NamesPage),
  at("/points/browse/$device", BrowsePage),
  at("/points/$device", PointsPage),
  at("/points/$device/$point", PointsPage),
  at("/timetable", TimetablePage),
  at("/timetable/$request", TimetablePage),
  at("/crossings", CrossingsPage),
  at("/crossings/$id", CrossingsPage),
  at("/crossings/lists", ListsPage),
  at("/crossings/lists/another", TwinPage),
  at("/crossings/lists/$list", ListPage),
  at("/crossings/lists/$list/add", AddNames),
  at("/crossings/lists/$list/add/$from", AddNames),
  at("/crossings/pair", PairingPage),
  at("/crossings/pair/$to", PairingPage),
  at("/crossings/pair/$to/$from", PairingPage),
  at("/checkout", CheckoutPage),
  at("/checkout/record", RecordPage),
  at("/checkout/snapshots", SnapshotsPage),
  at("/checkout/snapshots/$id", SnapshotsPage),
  at("/checkout/handover", HandOverPage),
  at("/checkout/asleft", AsLeftPage),
  at("/checkout/trends", TrendsPage),
  at("/checkout/trends/$id", TrendsPage),
  at("/checkout/$device", CheckoutPage),
  at("/checkout/$device/$point", CheckoutPage),
  at("/users", UsersPage),
  at("/traffic", TrafficPage),
  at("/traffic/codebook", CodebookPage),
  at("/traffic/lookouts", LookoutsPage),
  at("/traffic/lookouts/$kind/$id", LookoutsPage),
  at("/traffic/relays", RelaysPage),
  at("/traffic/recordings", RecordingsPage),
  at("/traffic/recordings/$id", RecordingPage),
  at("/traffic/exchange/$seq", TrafficPage),
  at("/traffic/finding/$key", TrafficPage),
]);

/** What a screen shows when it fails: what happened, and the way on. */
function Failed({ error }: ErrorComponentProps) {
  return (
    <div className="p-8" role="alert">
      <h2>This screen has failed.</h2>
      <p className="mono my-2">{error instanceof Error ? error.message : String(error)}</p>
      <p>
        Nothing that was saved is lost.{" "}
        <a className="underline" href={location.pathname}>
          Open it again
        </a>
        , or choose another stop above.
      </p>
    </div>
  );
}

export const router = createRouter({ routeTree: tree, defaultPreload: false, defaultErrorComponent: Failed });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
