order.push("written");
