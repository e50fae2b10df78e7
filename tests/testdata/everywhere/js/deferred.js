order.push("deferred:" + document.readyState);
