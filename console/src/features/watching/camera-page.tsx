import { Link, useParams } from "react-router";

import { Empty, Fact, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { Zoom } from "../../ui/zoom";
import { LivePicture } from "./live-picture";
import { useCamera } from "./queries";
import { settingsInWords } from "./words";

/** One camera, as large as there is room: for those that look at a room or a shelf. */
export function CameraPage() {
  const name = useParams().name ?? "";
  const { data: camera, error, isPending, refetch } = useCamera(name);
  return (
    <Page title={camera?.name ?? name} beside={<Link to="/cameras">All cameras</Link>}>
      {error ? (
        <Sheet>
          <Failed error={error} again={() => refetch()} />
        </Sheet>
      ) : isPending ? (
        <Sheet>
          <Loading rows={6} />
        </Sheet>
      ) : !camera ? (
        <Sheet>
          <Empty title={`No camera is called ${name}`}>
            <Link to="/cameras">All cameras</Link>
          </Empty>
        </Sheet>
      ) : (
        <div className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_20rem] lg:items-start">
          <Sheet className="overflow-hidden">
            <Zoom label={`Picture of ${camera.name}`} className="aspect-video w-full">
              <LivePicture camera={camera} rate={camera.settings?.frames_per_s ?? 5} />
            </Zoom>
          </Sheet>
          <Sheet>
            <SheetTitle beside={<Link to="/setup#cameras">Set up</Link>}>Camera</SheetTitle>
            <dl className="m-0 px-5 pb-4">
              <Fact name="Looks at">
                {camera.machine ? <Link to={`/machines/${encodeURIComponent(camera.machine)}`}>{camera.machine}</Link> : [camera.site, camera.place].filter(Boolean).join(", ") || "a room"}
              </Fact>
              <Fact name="Picture">{camera.width ? `${camera.width} × ${camera.height} px` : "none yet"}</Fact>
              <Fact name="Comes">{camera.frames_per_s ? `${camera.frames_per_s.toFixed(1)} frames/s` : "–"}</Fact>
              <Fact name="Address">
                <span className="break-all">{camera.address}</span>
              </Fact>
              <Fact name="Made of it">{settingsInWords(camera)}</Fact>
            </dl>
          </Sheet>
        </div>
      )}
    </Page>
  );
}
