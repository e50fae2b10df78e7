fetch("data.json?nested");
