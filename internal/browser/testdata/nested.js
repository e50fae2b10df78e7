fetch("data.json?nested").then(() => { postMessage("fetched"); });
