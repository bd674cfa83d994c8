/** What every page is given. */
export interface PageProps {
  /** Name of the zone whose days and hours are shown. */
  zone: string;
}
