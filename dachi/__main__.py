from dachi.cli import main

raise SystemExit(main())
