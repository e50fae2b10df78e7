const nested = new Worker("nested.js");
nested.onmessage = () => fetch("data.json?w").then(() => { postMessage("fetched"); lantern(); });
