import type { ExportPreview } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { Scroll } from "../../parts/Scroll";

/** FirstRows shows what the file will begin with. */
export function FirstRows({ out }: { out: ExportPreview }) {
  if (out.first.length === 0) return null;
  return (
    <>
      <h2>Preview of the file</h2>
      <Scroll label="The first rows of the file">
        <table className="rows preview">
          <thead>
            <tr>
              {out.titles.map((t, i) => (
                <th key={i}>
                  <AddressText text={t} long={40} />
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {out.first.map((cells, r) => (
              <tr key={r}>
                {cells.map((c, i) => (
                  <td key={i}>
                    <AddressText text={c} long={60} />
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </>
  );
}
