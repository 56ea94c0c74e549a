import { useEffect, useState } from "react";
import { useLive } from "../api/live";

/** A picture from the service. One that does not load stays away, and is
 * tried again when a lost line is up again. */
export function FrameImage({
  src,
  alt,
  className,
  lazy,
}: {
  src: string;
  alt: string;
  className: string;
  lazy?: boolean;
}) {
  const { lostAt } = useLive();
  const [broken, setBroken] = useState(false);
  useEffect(() => setBroken(false), [src, lostAt]);
  if (broken) {
    return null;
  }
  return (
    <img
      key={src}
      src={src}
      alt={alt}
      className={className}
      loading={lazy ? "lazy" : undefined}
      onError={() => setBroken(true)}
    />
  );
}
