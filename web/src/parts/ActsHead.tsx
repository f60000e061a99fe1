/** ActsHead heads a column of acts, for those who cannot see what stands in it. */
export function ActsHead() {
  return (
    <th>
      <span className="unseen">What can be done</span>
    </th>
  );
}
