let n = 0; onmessage = () => setInterval(() => postMessage(++n), 16); fetch("night.json");
