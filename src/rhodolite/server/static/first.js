// A first picture, which does not wait for the plotting library: it is there as soon as the layers
// are known. The scripts that the page names are run after it; their map takes its place.
"use strict";

let begun = false;
function runScripts() {
  if (begun) return;
  begun = true;
  for (const { href } of document.querySelectorAll('link[rel="preload"][as="script"]')) {
    const script = document.createElement("script");
    script.src = href;
    script.async = false;
    document.head.append(script);
  }
}
// Whatever becomes of the picture.
setTimeout(runScripts, 2000);

window.described = fetch(`${document.body.dataset.root}/view/${document.body.dataset.name}.json`)
  .then((answer) => answer.json());

window.described.then((about) => {
  const asked = new URLSearchParams(location.hash.slice(1));
  const layer = about.layers.find((one) => one.name === asked.get("v")) || about.layers[0];
  const frame = document.getElementById("map");
  if (asked.get("map") || !layer) { runScripts(); return; }
  const time = layer.moments.find((one) => asked.get("t") && one.startsWith(asked.get("t")));
  const [west, south, east, north] = asked.get("view")?.split(",").map(Number) || about.view;
  const width = Math.max(64, Math.min(1600, frame.clientWidth));
  const words = new URLSearchParams({
    SERVICE: "WMS", VERSION: "1.3.0", REQUEST: "GetMap", LAYERS: layer.name, STYLES: "cells", CRS: "CRS:84",
    BBOX: [west, Math.max(south, -90), east, Math.min(north, 90)], WIDTH: width,
    HEIGHT: Math.max(32, Math.round(width * (Math.min(north, 90) - Math.max(south, -90)) / (east - west))),
    FORMAT: "image/png", TRANSPARENT: "TRUE", ...(time ? { TIME: time } : {}),
  });
  const image = new Image();
  image.alt = "";
  image.onload = () => {
    if (!begun) frame.append(image);
    // After a moment in which it is painted.
    setTimeout(runScripts, 30);
  };
  image.onerror = runScripts;
  image.src = `${document.body.dataset.root}/wms/${document.body.dataset.name}?${words}`;
}).catch(runScripts);
