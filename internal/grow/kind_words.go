package grow

import "strings"

// The word lists of the catalogue, all made up or plain words. They belong to the
// edition: changing or reordering one changes rows.
var (
	givenNames = strings.Fields(`
		Ada Agnes Alba Aldo Amara Anouk Anselm Arlo Asha Astrid Beatriz Benno Bertil Bram Bríd Caleb Carys
		Celeste Cyrus Dagny Dara Delia Dilys Dorian Edda Eilidh Elif Elio Émile Enzo Esther Ewan Fadel Faye
		Felix Fenna Fergus Flora Freya Galen Gita Greta Gwen Hale Hana Hedda Henrik Hugo Ianthe Idris Ilse
		Imre Ines Iona Isaac Ivo Jago Jamila Jonas Jorun Juno Kaia Kamal Keira Kenji Kit Lars Leda Leif Lena
		Linus Lorcan Ludo Lúcia Mabel Magnus Maren Mateo Maud Mei Milo Mirela Moss Nadia Nell Nils Noor
		Odile Olive Oona Orla Otis Owen Petra Phoebe Piotr Quill Rafael Ravi Rhoda Rolf Rosa Runa Sabine
		Selma Seren Silas Søren Tamsin Tariq Tess Theo Thora Tilda Ulla Una Vera Viggo Wanda Wilf Yara Yusuf
		Zeno Zoë`)
	familyNames = strings.Fields(`
		Abernethy Alder Almeida Amsel Applegarth Ashdown Bancroft Barrow Bellweather Birchall Blackwater
		Bramble Brandt Brookfield Calloway Cardew Castell Chandra Cobbold Copperfield Corvin Crake Dacosta
		Dalgaard Dearborn Delacroix Dunmore Eastlake Eelworth Ellery Emberson Fairweather Falkner Farrow
		Fennimore Finch Flint Foxglove Gadsby Galloway Garland Gilchrist Glasswell Grayling Greenlaw Hadley
		Halloran Harkness Hartwell Hawksmoor Hazelton Heron Hollis Ibsley Ingram Ironside Jessop Jovanić
		Juniper Kallio Keating Kestrel Kingsley Kowalczyk Lachlan Lambert Larkspur Lindqvist Loveday
		Marchetti Marlowe Meadows Merriweather Molina Moorcroft Nakamura Nettle Nightingale Northcote Novák
		Oakley Okafor Orchard Osgood Otterburn Pemberton Penhale Pettifer Quayle Quill Quince Radcliffe
		Rainsford Redfern Ridley Rookwood Rowntree Saltmarsh Sandoval Sedgwick Shearwater Silverdale Skylark
		Sorrell Stillwater Strand Swift Tamblyn Teasdale Tern Thistlewood Tidewell Tremayne Umber Underhill
		Vance Varga Velder Wainwright Wakefield Waverley Weaver Whitlock Wildgoose Winterbourne Wren Yarrow
		Ystrad Zeller`)
	plainNouns = strings.Fields(`
		anchor apple arch barley basin beacon berry birch bell boat bramble brook bucket buoy cabin candle
		canvas cedar chart cliff cloud clover compass copper coral cove crane creek current dawn deck delta
		dock dune eddy elm ember fern field finch fjord flag float foam forge gale garden gate glade grove
		gull gust harbour harvest hazel heath heron hill hollow island ivy jetty juniper kelp kettle keel
		ladder lagoon lamp lantern lark ledge lilac linen lock maple marsh meadow mist moor moss needle oak
		oar orchard otter paddle path pebble pier pine plover pond quay rain reed reef ridge river robin
		rope rudder sail sand shell shore skiff slate spruce star stone storm stream tern thistle tide
		timber trail tulip valley vessel walnut wave wharf willow wind wren yarn`)
	adjectives = strings.Fields(`
		amber ample autumn bold brave bright brisk calm clear cool crisp dappled deep distant early eastern
		even fair faint fine fresh gentle golden grand grassy green hidden high hollow idle jolly keen
		kindly late level light lively long low mellow mild misty narrow new noble northern old open pale
		patient plain quiet rapid ready rocky rosy round rugged russet salty sandy secret shady sharp silent
		silver simple slow small smooth soft southern spare steady still stony sturdy summer sunny swift
		tall tidy tiny upper warm western white wide wild windy winter wooden young`)
	orgFirst = strings.Fields(`
		Amberley Anchor Ashgrove Beacon Birchfield Bluewater Bracken Brightwater Brindle Cobalt Copperline
		Coppice Cormorant Crossfield Driftwood Eastmoor Evergreen Fairhaven Fernbank Fieldstone Flintlock
		Foxhollow Greenbank Grindstone Harbourside Hawthorn Heatherton Highmoor Ironbridge Junction
		Kingfisher Lakeland Lanternlight Larkwater Longshore Meadowlark Millrace Moorland Northgate Oakham
		Otterbank Pebblebrook Pinewood Quayside Redwing Riverbend Rookery Saltbox Sandpiper Shoreline
		Silverbirch Slateford Southmere Stonecroft Sunnyside Tanglewood Tidemark Tollgate Watermill
		Westering Whitecliff Willowbrook Windermost Yellowfield`)
	orgSecond = strings.Fields(`
		Bakers Binders Boatyard Brewing Carpentry Chandlery Charts Coaching Crafts Dairies Design Fabrics
		Fisheries Foods Freight Gardens Glass Instruments Joinery Kitchens Lamps Logistics Looms Machinery
		Marine Masonry Milling Navigation Nurseries Optics Packaging Paper Pottery Printing Provisions
		Records Roasters Ropes Sails Seeds Shipping Software Supplies Surveyors Textiles Tiles Timber Tools
		Tours Traders Transport Vessels`)
	jobRanks = strings.Fields(`
		Assistant Associate Chief Deputy Junior Lead Principal Senior Staff Visiting`)
	jobTrades = strings.Fields(`
		Accountant Analyst Archivist Baker Boatwright Bookkeeper Carpenter Cartographer Clerk Cook Deckhand
		Designer Dispatcher Editor Electrician Engineer Gardener Geologist Harbourmaster Inspector Librarian
		Machinist Mechanic Navigator Nurse Painter Pilot Planner Plumber Purser Rigger Sailmaker Scheduler
		Steward Surveyor Teacher Technician Translator Welder`)
	streetFirst = strings.Fields(`
		Abbey Alder Anchor Ash Barn Beech Bell Birch Bridge Brook Cannery Castle Chapel Cherry Church Cliff
		Cooper Corn Crane Dock Elm Ferry Field Fisher Forge Fountain Garden Glebe Granary Hawthorn Hazel
		Heron High Hill Holly Jetty King's Lantern Lark Lime Lock Long Maple Market Meadow Mill Miller's
		Moor Nettle North Oak Orchard Otter Park Pear Pier Pond Poplar Priory Queen's Reed River Rope Rowan
		Sailors' School Sea Shepherd's Ship Slate South Spring Station Stone Swan Tanner's Tern Tide Tithe
		Tower Vicarage Vine Walnut Water Weaver's Well West Willow Windmill Wren`)
	townFirst = strings.Fields(`
		Alder Amber Ash Barrow Beck Birch Bram Brindle Brook Cald Clay Coldr Corn Crag Cran Dun East Elder
		Ember Fal Fern Finch Glen Grind Hag Harrow Hazel Heath Hern Holm Kelp Lark Leaf Long Loxen Mallow
		Marl Mere Moss Nether North Oak Otter Pell Quarr Raven Reed Ripple Rook Salt Sedge Shear Silver
		South Stan Tarn Thorn Tide Upper Wether Whin Willow Win Yarrow`)
	townSecond = strings.Fields(`
		beck bourne bridge bury by combe cote croft dale den ditch fell field ford gate ham haven holm hurst
		leigh ley mere minster mouth ness port ridge sands shaw side stead stow thorpe ton water well wick
		worth`)
	regions = []string{
		"Ambermoor",
		"Brackenshire",
		"Calder Vale",
		"Dunmarch",
		"East Larkland",
		"Fallowdale",
		"Greyfells",
		"Harrowmere",
		"Isles of Tern",
		"Kelmarsh",
		"Low Fens",
		"Marlshire",
		"Netherby",
		"Otterdale",
		"Quarrland",
		"Rooksmoor",
		"Saltings",
		"Thornshire",
		"Upper Tarn",
		"West Larkland",
	}
	colours = strings.Fields(`
		amber apricot aqua azure beige black blue bronze brown burgundy charcoal copper coral cream crimson
		emerald fuchsia gold green grey indigo ivory khaki lavender lemon lilac lime magenta maroon mauve
		mint navy ochre olive orange peach pink plum purple red rose ruby russet sand sapphire scarlet
		sienna silver slate tan teal turquoise umber violet white yellow`)
	proseWordList = strings.Fields(`
		a about above across after again all along also always an and any around arrives as at autumn away
		back bank be beautiful before begins below beside between boat both bright brings by calls calm
		captain carries changes clear coast comes crew crossing daily deck departs down during each early
		east evening every far few ferry finds first follows for freight from full gate gives good green
		guests half harbour has he her high hill his holds home hour if in inside island it just keeps lake
		lands last late leaves left light line little long look low makes many map may meets mile mist moon
		morning most moves near new next night north not now of off often old on one only open or other our
		out over passage passengers past pier plain plans quay quiet rain ready rest returns right river
		room round runs sails same sea season second sees shore short side slow small soft some soon south
		spring stands stays still stops storm stream summer sun table takes tells ten than that the their
		then there they this three through tickets tide time to today together town travel turns two under
		until up upper valley very view village visit waits walk warm water waves way we weather week
		welcome west when where while wide wind winter with without yard year yellow you`)
)
