CREATE TABLE depths (at text, metres int);
