"""What suppliers and offices call the columns, in the languages of the trade.

One line a language (English, German, French, Spanish, Italian, Polish, Turkish, Dutch, Japanese,
Arabic); titles are separated by semicolons. A title behind `~` is a weak one: it gives way to a
title that says more. Case, accents, punctuation, and words such as “device” or “number” do not
matter (see core.columns).
"""

from __future__ import annotations

TITLES: dict[str, str] = {
    "serial": """
        serial; serial number; serial no; ser no; s n; sn; serials; serial id; serial code
        seriennummer; serien nr; serien nummer; serie nr; seriennr; sernr; geraeteseriennummer
        numero de serie; no de serie; n de serie; num serie; n serie; serie
        numero de serie; nro de serie; num de serie; n de serie; serie
        numero di serie; numero seriale; matricola; seriale; n di serie; n serie; num di serie
        numer seryjny; nr seryjny; numer fabryczny; nr fabryczny; seryjny
        seri numarasi; seri no; seri; cihaz seri no
        serienummer; serie nr; serienr; serie nummer
        シリアル番号; シリアル; シリアルナンバー; シリアルno; 製造番号; 機器番号; 端末番号
        الرقم التسلسلي; رقم تسلسلي; التسلسلي; الرقم المتسلسل; رقم السيريال
    """,
    "imei": """
        imei; imei number; imei no; imei code; ~imei meid; imei sim; imei slot; imeis; primary imei
        imei nummer; imei nr; secondary imei; imei dual; second imei; first imei
        numero imei; code imei; numero de imei
        numero imei; codigo imei
        numero imei; codice imei
        numer imei; nr imei
        imei numarasi; imei no
        imei nummer; imei nr
        imei番号; imeiコード; 端末識別番号
        رقم imei; imei رقم; رقم الايمي; رقم الهوية الدولية
    """,
    "meid": "meid; meid number; meid hex; meid dec; ~imei meid; meid番号",
    "eid": """
        eid; esim eid; esim id; euicc id; eid number; esim number; eid nummer; numero eid; eid番号
    """,
    "mac": """
        mac; mac address; wifi mac; wi fi mac; wlan mac; ethernet mac; lan mac; network address
        mac adresse; wlan mac adresse; lan mac adresse; mac adr; wifi mac address; mac id
        adresse mac; adresse mac wifi; physical address; hardware address
        direccion mac; direccion mac wifi
        indirizzo mac; indirizzo mac wifi
        adres mac; adres mac wifi
        mac adresi; wifi mac adresi
        mac adres; wifi mac adres
        macアドレス; wifi macアドレス; 物理アドレス
        عنوان mac; mac عنوان; عنوان ماك
    """,
    "uuid": "uuid; hardware uuid; system uuid; guid; device uuid; udid",
    "fingerprint": "fingerprint; hardware fingerprint; empreinte; fingerabdruck",
    "problem": "problem",
    "platform": """
        platform; os; operating system; ~system; ~os version; os type; os name; device platform
        betriebssystem; plattform; os typ; bs
        plateforme; systeme d exploitation; systeme; se
        plataforma; sistema operativo; so
        piattaforma; sistema operativo; s o
        platforma; system operacyjny
        isletim sistemi; platform
        besturingssysteem; platform
        os; プラットフォーム; オペレーティングシステム; 基本ソフト
        نظام التشغيل; المنصة; النظام
    """,
    "maker": """
        maker; manufacturer; make; brand; ~vendor; oem; mfr; mfg; manufactured by
        hersteller; marke; fabrikat; herst
        fabricant; marque; constructeur
        fabricante; marca
        produttore; marca; fabbricante; costruttore
        producent; marka
        uretici; marka; imalatci
        fabrikant; merk
        メーカー; 製造元; ブランド; メーカ
        الشركة المصنعة; المصنع; الماركة; العلامة التجارية; الصانع
    """,
    "model": """
        model; device model; ~product; product name; ~type; model name; model no; model number
        ~description; ~item; ~device; ~article description; ~product description; model type
        modell; geratetyp; modellbezeichnung; ~bezeichnung; ~typ; ~artikelbezeichnung; ~produkt
        ~gerat; ~artikel; ~beschreibung; geratemodell; ~produktname
        modele; ~designation; ~produit; ~appareil; ~libelle; type d appareil
        modelo; ~producto; ~descripcion; ~dispositivo; ~denominacion; ~equipo
        modello; ~prodotto; ~descrizione; ~dispositivo; ~apparecchio
        model; ~produkt; ~opis; ~nazwa produktu; ~urzadzenie
        model; ~urun; ~urun adi; ~aciklama; ~cihaz; cihaz modeli
        model; ~product; ~omschrijving; ~toestel; ~apparaat; ~artikelomschrijving
        モデル; 機種; 機種名; 型番; 型名; 製品名; 品名; モデル名
        الموديل; الطراز; موديل; طراز; ~المنتج; ~الوصف; ~الجهاز
    """,
    "product_code": """
        product code; part number; part no; sku; ~article; article no; item no; item number; mpn
        p n
        item code; article number; material number; material no; ean; upc; gtin; material
        artikelnummer; art nr; artikel nr; teilenummer; materialnummer; bestellnummer hersteller
        reference; ref; reference article; code article; code produit; reference produit
        ref produit
        referencia; codigo de producto; codigo de articulo; codigo producto; ref
        codice prodotto; codice articolo; cod art; codice; riferimento
        kod produktu; indeks; nr katalogowy; numer katalogowy; symbol; kod towaru
        urun kodu; parca numarasi; stok kodu; malzeme no
        artikelnummer; artikelnr; artikelcode; productcode; onderdeelnummer
        商品コード; 製品コード; 品番; 部品番号; 製品番号
        رمز المنتج; رقم القطعة; كود المنتج; رقم الصنف
    """,
    "ownership": """
        ownership; owner type; owned by; ownership type; device ownership
        eigentum; besitz; eigentumsart; eigentumer art; besitzart
        propriete; type de propriete; proprietaire
        propiedad; tipo de propiedad; titularidad
        proprieta; tipo di proprieta
        wlasnosc; rodzaj wlasnosci
        mulkiyet; sahiplik
        eigendom; eigendomstype; eigenaarschap
        所有; 所有区分; 所有形態; 所有権
        الملكية; نوع الملكية; ملكية
    """,
    "order_name": """
        order; order name; order number; order no; sales order; our order; so number; order id
        auftrag; bestellung; auftragsnummer; auftrags nr; auftragsnr; auftragsbestatigung
        commande; numero de commande; n de commande; no commande
        pedido; numero de pedido; n de pedido; orden; numero de orden
        ordine; numero d ordine; n ordine; numero ordine
        zamowienie; numer zamowienia; nr zamowienia
        siparis; siparis numarasi; siparis no
        bestelling; ordernummer; order nr; opdracht
        注文番号; 注文; オーダー番号; 発注番号; 受注番号
        الطلب; رقم الطلب; رقم الطلبية; أمر الشراء
    """,
    "purchase_order": """
        purchase order; po; po number; po no; customer po; your order; customer order
        your reference
        bestellnummer; bestell nr; bestellnr; kundenbestellnummer; ihre bestellung
        ihre bestellnummer
        bon de commande; bc; numero bc; n bc; bdc; reference client
        orden de compra; oc; n oc; o c; numero orden de compra
        ordine d acquisto; ordine di acquisto; oda; n oda; rda
        zamowienie zakupu; nr zamowienia klienta; zamowienie klienta
        satinalma siparisi; satin alma siparisi; sas no
        inkooporder; inkoopordernummer; inkoop nr; bestelnummer; bestelnr
        購買発注番号; 購入注文番号; po番号; 発注書番号
        امر الشراء; رقم امر الشراء
    """,
    "supplier": """
        supplier; dealer; reseller; ~vendor; distributor; supplied by; supplier name; vendor name
        lieferant; handler; lieferfirma
        fournisseur; revendeur; distributeur
        proveedor; distribuidor; vendedor
        fornitore; rivenditore; distributore
        dostawca; sprzedawca; dystrybutor
        tedarikci; satici; bayi
        leverancier; verkoper; dealer
        仕入先; 購入先; 納入業者; 販売店; ベンダー; サプライヤー
        المورد; الموزع; البائع
    """,
    "purchased_on": """
        purchased on; purchase date; date of purchase; bought on; invoice date; bought; purchased
        ~delivery date; ~date; ~ship date; ~delivered on; ~shipped on; acquisition date; date bought
        kaufdatum; rechnungsdatum; ~lieferdatum; ~datum; anschaffungsdatum; gekauft am; kaufdat
        date d achat; date de facture; date facture; ~date de livraison; date achat; achete le
        fecha de compra; fecha de factura; fecha compra; ~fecha; ~fecha de entrega; comprado el
        data di acquisto; data acquisto; data fattura; ~data; ~data di consegna; ~data consegna
        data zakupu; data faktury; ~data; ~data dostawy; zakupiono
        satin alma tarihi; fatura tarihi; alis tarihi; ~tarih; ~teslim tarihi
        aankoopdatum; factuurdatum; ~leverdatum; ~datum; gekocht op
        購入日; 購入年月日; 請求日; ~納品日; ~日付; 取得日
        تاريخ الشراء; تاريخ الفاتورة; ~التاريخ; ~تاريخ التسليم
    """,
    "warranty_until": """
        warranty until; ~warranty; warranty end; warranty expires; warranty end date
        warranty expiry; warranty date; end of warranty; warranty expiration
        guarantee until; warranty to
        garantie bis; garantieende; ~garantie; gewahrleistung bis; garantieablauf; ~gewahrleistung
        fin de garantie; garantie jusqu au; date de fin de garantie; fin garantie; ~garantie
        garantia hasta; fin de garantia; ~garantia; vencimiento de garantia; fin garantia
        garanzia fino al; fine garanzia; scadenza garanzia; ~garanzia
        gwarancja do; ~gwarancja; koniec gwarancji; data gwarancji; gwarancja wazna do
        garanti bitis; garanti bitis tarihi; ~garanti; garanti suresi sonu; garanti sonu
        garantie tot; einde garantie; ~garantie; garantiedatum; garantie einddatum
        保証期限; 保証終了日; ~保証期間; ~保証; 保証期間終了日
        الضمان حتى; انتهاء الضمان; تاريخ انتهاء الضمان; ~الضمان; نهاية الضمان
    """,
    "site": """
        site; location; ~place; harbour; vessel; ship; office; branch; ~delivery address; harbor
        port
        standort; ort; niederlassung; hafen; schiff; ~lieferadresse; einsatzort; filiale
        site; lieu; emplacement; agence; navire; localisation; port
        sitio; ubicacion; sede; lugar; localizacion; buque; sucursal; centro; puerto
        sede; ubicazione; luogo; sito; nave; filiale; porto
        lokalizacja; miejsce; oddzial; siedziba; statek; placowka
        yer; konum; lokasyon; sube; gemi; tesis; liman; saha
        locatie; vestiging; plaats; standplaats; schip; haven; kantoor
        場所; 拠点; 設置場所; 事業所; 設置先; 所在地; 船舶
        الموقع; المكان; الفرع; السفينة; الميناء
    """,
    "department": """
        department; dept; division; team; business unit; org unit; unit
        abteilung; abt; bereich; organisationseinheit; fachbereich
        departement; service; direction; dept
        departamento; area; seccion; dpto
        reparto; dipartimento; ufficio; divisione
        dzial; departament; wydzial
        departman; bolum; birim
        afdeling; afd; dienst
        部署; 部門; 課; 部
        القسم; الادارة; الدائرة
    """,
    "person": """
        person; user; user name; username; mail; email; e mail; assigned to; employee; assignee
        login
        user email; assigned user; employee email; holder; user id; mail address; email address; upn
        benutzer; benutzername; nutzer; mitarbeiter; anwender; zugewiesen an; mailadresse; personal
        utilisateur; utilisatrice; nom d utilisateur; employe; attribue a; courriel; affecte a
        collaborateur
        usuario; nombre de usuario; empleado; asignado a; correo; correo electronico
        utente; nome utente; dipendente; assegnato a; posta elettronica; assegnatario
        uzytkownik; nazwa uzytkownika; pracownik; przypisano do; adres e mail; przypisany do
        kullanici; kullanici adi; calisan; atanan; e posta; eposta; personel
        gebruiker; gebruikersnaam; medewerker; toegewezen aan; e mailadres
        ユーザー; ユーザー名; 利用者; 使用者; 社員; メールアドレス; メール; ユーザ
        المستخدم; اسم المستخدم; الموظف; البريد الالكتروني; مسند الى
    """,
    "asset_tag": """
        asset tag; asset; asset number; asset no; inventory number; inventory no; asset id
        tag number
        inv no; inventory id; barcode; inventory tag; asset label
        inventarnummer; inv nr; inventar nr; inventar; anlagennummer; anlagen nr
        numero d inventaire; no inventaire; n inventaire; inventaire; etiquette; immobilisation
        numero de inventario; n inventario; inventario; activo; numero de activo; etiqueta
        numero di inventario; numero inventario; n inventario; inventario; cespite; etichetta
        numer inwentarzowy; nr inwentarzowy; nr inw; inwentarz; numer srodka trwalego
        demirbas no; demirbas numarasi; envanter no; envanter numarasi; varlik etiketi
        inventarisnummer; inventarisnr; activanummer; inventaris; inv nr
        資産番号; 資産タグ; 管理番号; 備品番号; 資産管理番号
        رقم الاصل; رقم الجرد; رقم العهدة; علامة الاصل
    """,
    "name": """
        name; device name; hostname; host name; computer name; pc name; machine name
        geratename; rechnername; computername; ~bezeichnung gerat; hostname
        nom de l appareil; nom; nom d hote; nom du poste; nom machine
        nombre del dispositivo; nombre del equipo; nombre de equipo; nombre de host
        nome dispositivo; nome host; nome computer; nome del dispositivo
        nazwa urzadzenia; nazwa hosta; nazwa komputera
        cihaz adi; bilgisayar adi; ana bilgisayar adi
        apparaatnaam; toestelnaam; computernaam
        デバイス名; 端末名; ホスト名; コンピュータ名; 機器名
        اسم الجهاز; اسم المضيف
    """,
    "tags": """
        tags; labels; schlagworte; etiquettes; etiquetas; etichette; etykiety; etiketler; タグ; وسوم
    """,
    "note": """
        note; notes; comment; comments; remark; remarks; annotation
        bemerkung; bemerkungen; kommentar; hinweis; anmerkung; notiz
        remarque; remarques; commentaire; commentaires; observations
        nota; notas; comentario; comentarios; observaciones
        nota; note; commento; osservazioni
        uwagi; uwaga; komentarz; notatka
        not; notlar; yorum
        opmerking; opmerkingen; notitie
        備考; メモ; コメント; 注記; 摘要
        ملاحظات; ملاحظة; تعليق
    """,
}

#: Words that a title may carry without meaning anything else.
FILLERS = frozenset(
    [
        "device",
        "devices",
        "equipment",
        "unit",
        "phone",
        "handset",
        "tablet",
        "laptop",
        "notebook",
        "machine",
        "hardware",
        "hw",
        "smartphone",
        "the",
        "of",
        "a",
        "an",
        "and",
        "number",
        "no",
        "nr",
        "num",
        "nbr",
        "id",
        "gerat",
        "gerate",
        "geraet",
        "der",
        "des",
        "die",
        "das",
        "nummer",
        "appareil",
        "terminal",
        "numero",
        "n",
        "du",
        "de",
        "la",
        "le",
        "les",
        "l",
        "d",
        "dispositivo",
        "equipo",
        "del",
        "el",
        "nro",
        "apparecchio",
        "di",
        "della",
        "dello",
        "il",
        "urzadzenia",
        "urzadzenie",
        "numer",
        "cihaz",
        "cihazin",
        "numarasi",
        "toestel",
        "apparaat",
        "van",
        "het",
    ]
)
