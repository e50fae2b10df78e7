new Worker("nested.js");
fetch("data.json?w").then(() => { lantern(); });
