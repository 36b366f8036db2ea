print("almanac")
