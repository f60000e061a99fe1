/** A file that was dropped on one page and is imported on another. */
let handed: File | undefined;

export function handOver(file: File) {
  handed = file;
}

/** takeOver returns the file that was handed over, once. */
export function takeOver(): File | undefined {
  const file = handed;
  handed = undefined;
  return file;
}
