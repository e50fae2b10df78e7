BEGIN TRANSACTION;
CREATE TABLE host (format BIGINT NOT NULL);
INSERT INTO host VALUES(1);
CREATE TABLE tokens (
	name    TEXT PRIMARY KEY,
	hash    TEXT NOT NULL UNIQUE, -- SHA-256 of the token, which is long and random
	made    BIGINT NOT NULL,
	revoked BIGINT NOT NULL DEFAULT 0
);
INSERT INTO tokens VALUES('moth','29701fe126d52ad05787b98ef8234cb17c584edf0bbc5161aff7c1b6cf73b8e2',1796018922,0);
CREATE TABLE builds (
	id        TEXT PRIMARY KEY,
	owner     TEXT NOT NULL,
	game      TEXT NOT NULL,
	title     TEXT NOT NULL,
	version   TEXT NOT NULL,
	sha256    TEXT NOT NULL, -- of the archive
	bytes     BIGINT NOT NULL,
	state     TEXT NOT NULL,
	problems  TEXT NOT NULL DEFAULT '[]',
	secret    TEXT NOT NULL UNIQUE, -- in the address under which it is served
	isolated  BIGINT NOT NULL DEFAULT 0,
	made      BIGINT NOT NULL
);
INSERT INTO builds VALUES('effrxw3ks72hljkw2igykw6z5d','moth','lane','Lane','1','78128772688b161b2ade4cd094ab4154eeedebc4cc26b687af3383f1ef853f96',296,'ready','[]','6gcxjmzv7s3xdkapqmj44y3nfm',0,1796018922);
CREATE TABLE pieces ( -- of archives on their way
	build TEXT NOT NULL,
	start BIGINT NOT NULL, -- the first byte
	bytes BIGINT NOT NULL,
	name  TEXT NOT NULL,   -- among the files
	PRIMARY KEY (build, start)
);
CREATE TABLE files (
	build  TEXT NOT NULL,
	path   TEXT NOT NULL,
	sha256 TEXT NOT NULL,
	bytes  BIGINT NOT NULL,
	PRIMARY KEY (build, path)
);
INSERT INTO files VALUES('effrxw3ks72hljkw2igykw6z5d','index.html','f8703b8f2be42e930a90895f3aecfde98419c01225ec90e12ca723d75cdc02fc',60);
INSERT INTO files VALUES('effrxw3ks72hljkw2igykw6z5d','lane.js','6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b',1);
CREATE TABLE rounds (
	id        TEXT PRIMARY KEY,
	owner     TEXT NOT NULL,
	build     TEXT NOT NULL,
	secret    TEXT NOT NULL UNIQUE, -- in its link
	play      TEXT NOT NULL UNIQUE, -- in its game's address, which only those see who may play
	made      BIGINT NOT NULL,
	until     BIGINT NOT NULL,           -- the end
	forget    BIGINT NOT NULL,           -- when all that came back is deleted
	most      BIGINT NOT NULL DEFAULT 0, -- testers; 0 for any number
	password  TEXT NOT NULL DEFAULT '',  -- bcrypt
	opens     BIGINT NOT NULL DEFAULT 0, -- how often its page was opened, by whomever
	record    BIGINT NOT NULL DEFAULT 0, -- testers are asked for a clip
	closed    BIGINT NOT NULL DEFAULT 0,
	questions TEXT NOT NULL DEFAULT '[]',
	controls  TEXT NOT NULL DEFAULT '[]'
);
INSERT INTO rounds VALUES('tug6jtgzmit2kafwrhzb7vdgoz','moth','effrxw3ks72hljkw2igykw6z5d','n4fiwaj3q5qlleq6o3tf7jvkoq','msuvn5qlw4dbuqzggc6xxbuymi',1796018922,1796022522,1803798522,0,'',0,1,0,'[{"ask":"Was it fun?","kind":"text","choices":null}]','[]');
CREATE TABLE sessions (
	id        TEXT PRIMARY KEY,
	round     TEXT NOT NULL,
	made      BIGINT NOT NULL,
	device    TEXT NOT NULL,
	simulated BIGINT NOT NULL DEFAULT 0,
	last      BIGINT NOT NULL DEFAULT 0 -- the number of its last event
);
INSERT INTO sessions VALUES('hwsysuurf6xxgxtyydazzh6zdr','tug6jtgzmit2kafwrhzb7vdgoz',1796018922,'{"width":800,"height":600,"ratio":0,"touch":false,"memory":0}',0,1);
INSERT INTO sessions VALUES('y45wtdt5jcf3vp42bcmeuhqjqf','tug6jtgzmit2kafwrhzb7vdgoz',1796018922,'{"width":800,"height":600,"ratio":0,"touch":false,"memory":0}',0,4);
INSERT INTO sessions VALUES('cu5l5mzwxzmknezycvnaohqqjf','tug6jtgzmit2kafwrhzb7vdgoz',1796018922,'{"width":1,"height":0,"ratio":0,"touch":false,"memory":0}',1,0);
CREATE TABLE batches (
	session TEXT NOT NULL,
	first   BIGINT NOT NULL, -- the number of its first event
	lines   TEXT NOT NULL,   -- as they are exported
	PRIMARY KEY (session, first)
);
INSERT INTO batches VALUES('hwsysuurf6xxgxtyydazzh6zdr',1,replace('{"session":"hwsysuurf6xxgxtyydazzh6zdr","n":1,"at":5,"kind":"answer","data":{"question":0,"answer":"seven lamps"}}\n','\n',chr(10)));
INSERT INTO batches VALUES('y45wtdt5jcf3vp42bcmeuhqjqf',1,replace('{"session":"y45wtdt5jcf3vp42bcmeuhqjqf","n":1,"at":5,"kind":"answer","data":{"question":0,"answer":"eight lamps"}}\n','\n',chr(10)));
INSERT INTO batches VALUES('y45wtdt5jcf3vp42bcmeuhqjqf',2,replace('{"session":"y45wtdt5jcf3vp42bcmeuhqjqf","n":2,"at":9,"kind":"event","data":{"event":"play-begun"}}\n{"session":"y45wtdt5jcf3vp42bcmeuhqjqf","n":3,"at":20,"kind":"answer","data":{"question":0,"answer":"cut \ud83d"}}\n{"session":"y45wtdt5jcf3vp42bcmeuhqjqf","n":4,"at":21,"kind":"event","data":{"event":"a","event":"b"}}\n','\n',chr(10)));
CREATE TABLE clips (
	session TEXT NOT NULL,
	n       BIGINT NOT NULL, -- pieces are joined in the order of their numbers
	bytes   BIGINT NOT NULL,
	name    TEXT NOT NULL,   -- among the files
	PRIMARY KEY (session, n)
);
INSERT INTO clips VALUES('hwsysuurf6xxgxtyydazzh6zdr',1,16,'clips/hwsysuurf6xxgxtyydazzh6zdr/00001');
INSERT INTO clips VALUES('hwsysuurf6xxgxtyydazzh6zdr',2,15,'clips/hwsysuurf6xxgxtyydazzh6zdr/00002');
INSERT INTO clips VALUES('y45wtdt5jcf3vp42bcmeuhqjqf',1,16,'clips/y45wtdt5jcf3vp42bcmeuhqjqf/00001');
INSERT INTO clips VALUES('y45wtdt5jcf3vp42bcmeuhqjqf',2,15,'clips/y45wtdt5jcf3vp42bcmeuhqjqf/00002');
CREATE INDEX builds_of ON builds (owner, game, made);
CREATE INDEX files_of ON files (sha256);
CREATE INDEX sessions_of ON sessions (round, made);
COMMIT;
