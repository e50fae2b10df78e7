addEventListener("load", () => parent.postMessage({ lantern: new URL(location.href).searchParams.get("lantern"), wide: document.images[0].naturalWidth }, "*"));
