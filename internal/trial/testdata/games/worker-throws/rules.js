setTimeout(() => { moth.fly(); postMessage(1); }, 300);
