fetch("data.json?w").then(() => { lantern(); });
