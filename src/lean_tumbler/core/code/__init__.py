"""What source code does with passwords: places, formulas, mistakes, readers and writers."""
