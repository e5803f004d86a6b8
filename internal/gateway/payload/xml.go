package payload

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/text/encoding/htmlindex"

	"nexocumula/internal/config/shape"
)

// xmlKeys are the same keys as for JSON: an XML document is picked by pointers too, see readXML.
type xmlKeys struct {
	documentKeys `yaml:",inline"`
}

func (k *xmlKeys) decoder(at shape.Place, f *fields) decoder {
	return k.documents(at, f, "xml", readXML)
}

const (
	mostElements = 1 << 17
	deepestXML   = 32
	elementText  = "#text" // as the Document Object Model calls it
)

// readXML makes a document of XML (1.0) as it is made of JSON. An element is an object: /weather/temp is the
// element temp in the element weather, /weather/@station the attribute, and /weather/#text the text of an
// element that has attributes or elements as well; an element that has none of both is its text. Of several
// with the same name, /weather/probe is the array. Prefixes of names are left out.
func readXML(payload []byte) (any, error) {
	d := xml.NewDecoder(bytes.NewReader(bytes.TrimRight(bytes.TrimPrefix(payload, []byte(utf8Mark)), "\x00")))
	d.CharsetReader = func(label string, input io.Reader) (io.Reader, error) {
		encoding, err := htmlindex.Get(label)
		if err != nil {
			return nil, fmt.Errorf("its encoding %q is not known", clip(label))
		}
		return encoding.NewDecoder().Reader(input), nil
	}
	r := xmlReader{Decoder: d}
	for {
		token, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			err = errors.New("it holds no element")
		}
		if err != nil {
			return nil, fmt.Errorf("payload is not XML: %w", err)
		}
		start, ok := token.(xml.StartElement)
		if !ok {
			continue
		}
		root, err := r.element(start, 0)
		if err != nil {
			return nil, fmt.Errorf("payload is not XML: %w", err)
		}
		return map[string]any{start.Name.Local: root}, nil
	}
}

type xmlReader struct {
	*xml.Decoder
	elements int
}

// element reads to the end of an element.
func (r *xmlReader) element(start xml.StartElement, depth int) (any, error) {
	if r.elements++; r.elements > mostElements || depth > deepestXML {
		return nil, fmt.Errorf("it has more than %d elements, or they are nested deeper than %d", mostElements,
			deepestXML)
	}
	var object map[string]any
	add := func(name string, v any) {
		if object == nil {
			object = map[string]any{}
		}
		before, there := object[name]
		switch list := before.(type) {
		case nil:
			if object[name] = v; there {
				object[name] = []any{before, v}
			}
		case []any:
			object[name] = append(list, v)
		default:
			object[name] = []any{before, v}
		}
	}
	for _, a := range start.Attr {
		if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
			add("@"+a.Name.Local, a.Value)
		}
	}
	var text strings.Builder
	for {
		token, err := r.RawToken()
		if errors.Is(err, io.EOF) {
			err = fmt.Errorf("it ends within <%s>", clip(start.Name.Local))
		}
		if err != nil {
			return nil, err
		}
		switch token := token.(type) {
		case xml.StartElement:
			v, err := r.element(token, depth+1)
			if err != nil {
				return nil, err
			}
			add(token.Name.Local, v)
		case xml.EndElement:
			if token.Name.Local != start.Name.Local {
				return nil, fmt.Errorf("</%s> stands where </%s> should", clip(token.Name.Local),
					clip(start.Name.Local))
			}
			said := strings.TrimSpace(text.String())
			if object == nil {
				return said, nil
			}
			if said != "" {
				add(elementText, said)
			}
			return object, nil
		case xml.CharData:
			text.Write(token)
		}
	}
}
