self.tool = "tool";
