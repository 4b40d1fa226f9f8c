/* Rows of data/frost.csv. */
struct frost_row { int metres; char first[6]; char last[6]; };
